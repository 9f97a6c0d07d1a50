package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"rillmark/internal/definition"
	"rillmark/internal/service/reading"
)

func (s *Server) rowHistoryRoutes() {
	huma.Register(s.api, operation(http.MethodGet, "/v1/sources/{name}/tables/{table}/history", "rowHistory", "Every version of a row that the journal has, also under the keys that it had before and after", "sources"), func(ctx context.Context, in *struct {
		Named
		Table string   `path:"table"`
		Key   []string `query:"key,explode" required:"true" maxItems:"32" doc:"Each column of the table's key with its value, as events show it: loan_id=4821; repeated for a key of several columns. Of a key of one column the value alone will do"`
		From  string   `query:"from" maxLength:"80" doc:"The place of the first event: an offset, beginning, now, time:2026-11-23T09:00:00Z or mark:NAME"`
		Until string   `query:"until" maxLength:"80" doc:"The place before which it ends, as in from"`
		Limit int      `query:"limit" default:"100" minimum:"1" maximum:"1000" doc:"How many of the newest events there are to be"`
	}) (*body[reading.RowHistory], error) {
		of := reading.HistoryOf{Table: in.Table, Key: make(map[string]string, len(in.Key)), Span: reading.Span{From: in.From, Until: in.Until}, Limit: in.Limit}
		for _, pair := range in.Key {
			name, value, found := strings.Cut(pair, "=")
			if !found && len(in.Key) == 1 {
				name, value, found = "", pair, true // of a key of one column
			}
			if _, twice := of.Key[name]; !found || twice {
				return nil, problem(&definition.Invalid{Location: "key", Message: "write each column of the key once, as name=value"})
			}
			of.Key[name] = value
		}
		history, err := s.service.Reading.History(ctx, in.Name, of)
		if err != nil {
			return nil, problem(err)
		}
		return &body[reading.RowHistory]{*history}, nil
	})
}
