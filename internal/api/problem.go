package api

import (
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"rillmark/internal/definition"
	"rillmark/internal/engine"
	"rillmark/internal/service/base"
)

// Problem is an error as RFC 9457 has it, with a stable code.
type Problem struct {
	Type   string   `json:"type" doc:"urn:rillmark:problem: and the code"`
	Title  string   `json:"title"`
	Status int      `json:"status"`
	Code   string   `json:"code" doc:"Stable: programs may depend on it"`
	Detail string   `json:"detail" doc:"What is wrong and where"`
	Fix    string   `json:"fix,omitempty" doc:"What to do"`
	Errors []Detail `json:"errors,omitempty" doc:"The places in the request that are wrong"`
}

// Detail is one wrong place in a request.
type Detail struct {
	Location string `json:"location" doc:"Such as body.connection.port"`
	Message  string `json:"message"`
}

// Error implements [huma.StatusError].
func (p *Problem) Error() string { return p.Detail }

// GetStatus implements [huma.StatusError].
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is the media type of RFC 9457.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// statusOf is the HTTP status that goes with a fault's code; a code that is not
// here is a fault of a source or destination.
var statusOf = map[string]int{
	base.CodeNotFound:      http.StatusNotFound,
	base.CodeNameTaken:     http.StatusConflict,
	base.CodeChanged:       http.StatusPreconditionFailed,
	base.CodeInUse:         http.StatusConflict,
	base.CodeInvalid:       http.StatusUnprocessableEntity,
	base.CodeOffsetOutside: http.StatusUnprocessableEntity,
	base.CodeExpired:       http.StatusGone,
	base.CodeDamaged:       http.StatusInternalServerError,
	base.CodeNotPull:       http.StatusConflict,
	base.CodePaused:        http.StatusConflict,
	base.CodeRunning:       http.StatusConflict,
	base.CodeLeaseOver:     http.StatusConflict,
	base.CodeStateDatabase: http.StatusServiceUnavailable,
	base.CodeStopping:      http.StatusServiceUnavailable,
	base.CodeStuck:         http.StatusServiceUnavailable,
	base.CodeBusy:          http.StatusServiceUnavailable,
	"path-outside":         http.StatusUnprocessableEntity,
	"files-not-allowed":    http.StatusUnprocessableEntity,
	"unknown-table":        http.StatusUnprocessableEntity,
	"bad-condition":        http.StatusUnprocessableEntity,
	"script-refused":       http.StatusUnprocessableEntity,
	"statement-refused":    http.StatusUnprocessableEntity,
	"not-captured":         http.StatusUnprocessableEntity,
	"no-tables":            http.StatusUnprocessableEntity,
	"rule-unfit":           http.StatusUnprocessableEntity,
	"not-supported":        http.StatusUnprocessableEntity,
	"internal-error":       http.StatusInternalServerError,
	"no-table":             http.StatusUnprocessableEntity,
	"no-scratch":           http.StatusConflict,
	"left-behind":          http.StatusGone,
	"not-known":            http.StatusConflict,
	"not-shown":            http.StatusInternalServerError,
	"rows-not-kept":        http.StatusInsufficientStorage,
	"not-ready":            http.StatusConflict,
	"not-equal":            http.StatusConflict,
	"still-written":        http.StatusConflict,
	"cannot-cut-over":      http.StatusConflict,
	"cannot-verify":        http.StatusConflict,
	"no-comparison":        http.StatusConflict,
	"nothing-to-abort":     http.StatusConflict,
	"condition-unfit":      http.StatusConflict,
	"form-unfit":           http.StatusConflict,
}

func newProblem(status int, code, detail string) *Problem {
	return &Problem{Type: "urn:rillmark:problem:" + code, Title: http.StatusText(status), Status: status, Code: code, Detail: detail}
}

// problem turns any error into one that can be answered.
func problem(err error) error {
	if err == nil {
		return nil
	}
	var ready *Problem
	if errors.As(err, &ready) {
		return ready
	}
	var invalid *definition.Invalid
	if errors.As(err, &invalid) {
		p := newProblem(http.StatusUnprocessableEntity, base.CodeInvalid, invalid.Error())
		p.Errors = []Detail{{Location: "body." + invalid.Location, Message: invalid.Message}}
		return p
	}
	var fault *engine.Fault
	if errors.As(err, &fault) {
		status, known := statusOf[fault.Code]
		if !known {
			status = http.StatusBadGateway
		}
		bare := *fault
		bare.Fix = ""
		p := newProblem(status, fault.Code, bare.Error())
		p.Fix = fault.Fix
		return p
	}
	return newProblem(http.StatusInternalServerError, "internal", err.Error())
}

// humaProblem is how huma makes an error of its own: of a body that is not JSON,
// of an unknown field, of a value out of range.
func humaProblem(status int, message string, errs ...error) huma.StatusError {
	code := "bad-request"
	switch status {
	case http.StatusUnprocessableEntity:
		code = base.CodeInvalid
	case http.StatusNotFound:
		code = base.CodeNotFound
	case http.StatusUnsupportedMediaType:
		code = "media-type"
	case http.StatusRequestEntityTooLarge:
		code = "too-large"
	case http.StatusInternalServerError:
		code = "internal"
	}
	p := newProblem(status, code, message)
	for _, err := range errs {
		var one *huma.ErrorDetail
		if errors.As(err, &one) {
			p.Errors = append(p.Errors, Detail{Location: one.Location, Message: one.Message})
		} else if err != nil {
			p.Errors = append(p.Errors, Detail{Message: err.Error()})
		}
	}
	if len(p.Errors) > 0 {
		p.Detail = p.Errors[0].Message
		if p.Errors[0].Location != "" {
			p.Detail = p.Errors[0].Location + ": " + p.Detail
		}
	}
	return p
}
