package http

import (
	"context"

	"idletally/internal/inquiry"
	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

const calculators = "/api/v1/calculate/"

// calculatorRoutes compute and look nothing up: anybody may use them.
func (s *Server) calculatorRoutes() {
	add(s, op{"GET", "/calculate/mode", "calculate-mode", "Explain, convert or change a mode", "", 200},
		s.calculateMode)

	add(s,
		op{
			"POST", "/calculate/password", "judge-password",
			"How well a new password withstands who guesses; it is kept nowhere", "", 200,
		},
		s.judgePassword)

	add(s, op{"GET", "/calculate/entries", "calculate-entries", "Explain an access list", "", 200},
		s.calculateEntries)

	add(s, op{"GET", "/calculate/new", "calculate-new", "What new files and folders get", "", 200},
		s.calculateNew)
}

// unprocessable returns a mistake in what was asked as the answer 422.
func unprocessable(err error) error {
	if err == nil {
		return nil
	}
	return fault.Invalid(err.Error())
}

// calculateModeRequest is what calculateMode takes.
type calculateModeRequest struct {
	Mode   string `query:"mode" required:"true" maxLength:"200" doc:"Octal digits, nine or ten letters, or a symbolic mode"`
	Change string `query:"change" maxLength:"1000" doc:"A symbolic mode to apply"`
	Folder bool   `query:"folder" doc:"It is a folder's mode"`
	Umask  string `query:"umask" maxLength:"6" default:"0022"`
	Limits string `query:"limits" maxLength:"1000" doc:"What the mode must and must not have, such as g+r,o-w"`
}

// calculateMode serves: Explain, convert or change a mode.
func (s *Server) calculateMode(_ context.Context, in *calculateModeRequest) (*body[wire.Mode], error) {
	out, err := inquiry.Mode(inquiry.ModeAsk{
		Mode:   in.Mode,
		Change: in.Change,
		Folder: in.Folder,
		Umask:  in.Umask,
		Limits: in.Limits,
	})
	return &body[wire.Mode]{out}, unprocessable(err)
}

// judgePassword serves: How well a new password withstands who guesses; it is kept nowhere.
func (s *Server) judgePassword(_ context.Context, in *body[wire.JudgedPassword]) (*body[wire.PasswordStrength], error) {
	strength, problem := auth.Strength(in.Body.Password, in.Body.Name)
	out := wire.PasswordStrength{Strength: strength}
	if problem != nil {
		out.Problem = problem.Error()
	}

	return &body[wire.PasswordStrength]{out}, nil
}

// calculateEntriesRequest is what calculateEntries takes.
type calculateEntriesRequest struct {
	Entries string `query:"entries" required:"true" maxLength:"20000" doc:"An access list in POSIX.1e text form, short or long"`
	Chmod   string `query:"chmod" maxLength:"200" doc:"What this mode makes of it"`
}

// calculateEntries serves: Explain an access list.
func (s *Server) calculateEntries(_ context.Context, in *calculateEntriesRequest) (*body[inquiry.ListText], error) {
	out, err := inquiry.Entries(in.Entries, in.Chmod)
	return &body[inquiry.ListText]{out}, unprocessable(err)
}

// calculateNewRequest is what calculateNew takes.
type calculateNewRequest struct {
	In       string `query:"in" default:"0755" maxLength:"200" doc:"Mode of the folder"`
	Umask    string `query:"umask" default:"0022" maxLength:"6"`
	Defaults string `query:"defaults" maxLength:"20000" doc:"Default entries of the folder"`
}

// calculateNew serves: What new files and folders get.
func (s *Server) calculateNew(_ context.Context, in *calculateNewRequest) (*body[[]wire.New], error) {
	out, err := inquiry.New(in.In, in.Defaults, in.Umask)
	return &body[[]wire.New]{out}, unprocessable(err)
}
