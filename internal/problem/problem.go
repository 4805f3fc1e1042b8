// Package problem has the errors that people see: problem documents (RFC 9457)
// that name the field at fault and what to do.
package problem

import (
	"errors"
	"fmt"
	"net/http"
)

// Problem is an error for the outside. It holds no secret and no inner detail.
type Problem struct {
	Status int     `json:"status"`
	Title  string  `json:"title"`
	Detail string  `json:"detail,omitempty"`
	Errors []Field `json:"errors,omitempty"`
}

// Field is a fault of one field with its mend.
type Field struct {
	Field   string `json:"field"`
	Message string `json:"message"`
}

// Error implements error.
func (p *Problem) Error() string {
	s := p.Title
	if p.Detail != "" {
		s += ": " + p.Detail
	}
	for _, f := range p.Errors {
		s += "\n  " + f.Field + ": " + f.Message
	}
	return s
}

// Invalid is a fault of one field; nothing was changed.
func Invalid(field, format string, a ...any) *Problem {
	return InvalidFields(Field{field, fmt.Sprintf(format, a...)})
}

// InvalidFields is Invalid for several fields.
func InvalidFields(fs ...Field) *Problem {
	return &Problem{Status: http.StatusUnprocessableEntity, Title: "Not accepted; nothing was changed", Errors: fs}
}

// NotFound says that a thing is not there.
func NotFound(what, id string) *Problem {
	return &Problem{Status: http.StatusNotFound, Title: "Not found", Detail: fmt.Sprintf("There is no %s %q here.", what, id)}
}

// Conflict says that the state of things does not allow it.
func Conflict(format string, a ...any) *Problem {
	return &Problem{Status: http.StatusConflict, Title: "Not possible now; nothing was changed", Detail: fmt.Sprintf(format, a...)}
}

// Unreachable says that something outside could not be asked.
func Unreachable(format string, a ...any) *Problem {
	return &Problem{Status: http.StatusBadGateway, Title: "Not reachable; nothing was changed", Detail: fmt.Sprintf(format, a...)}
}

// Denied says that a sign-in is needed or failed.
func Denied(detail string) *Problem {
	return &Problem{Status: http.StatusUnauthorized, Title: "Sign in first", Detail: detail}
}

// Of finds the problem in an error chain.
func Of(err error) (*Problem, bool) {
	var p *Problem
	return p, errors.As(err, &p)
}
