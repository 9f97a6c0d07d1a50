package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"rillmark/internal/service/impact"
)

// Statement is one that would change a table's definition.
type Statement struct {
	SQL string `json:"sql" minLength:"1" maxLength:"16384" doc:"One ALTER TABLE or DROP TABLE of a captured table; of PostgreSQL, one of a type or domain that captured tables have, too, and of MariaDB, RENAME TABLE" example:"ALTER TABLE loans ADD COLUMN note text"`
}

func (s *Server) impactRoutes() {
	huma.Register(s.api, operation(http.MethodPost, "/v1/sources/{name}/impact", "schemaImpact",
		"What a change of a table's definition would do, to events and to each outlet. The statement runs on an empty copy in a scratch database; nothing else is changed", "schemas"), func(ctx context.Context, in *struct {
		Named
		Body Statement
	}) (*body[impact.SchemaImpact], error) {
		report, err := s.service.Impact.Of(ctx, in.Name, in.Body.SQL)
		if err != nil {
			return nil, problem(err)
		}
		return &body[impact.SchemaImpact]{*report}, nil
	})
}
