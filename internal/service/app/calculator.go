package app

import (
	"context"

	"idletally/internal/inquiry"
	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// unprocessable returns a mistake in what was asked as the answer 422.
func unprocessable(err error) error {
	if err == nil {
		return nil
	}
	return fault.Invalid(err.Error())
}

// CalculateModeRequest is the request of [App.CalculateMode].
type CalculateModeRequest struct {
	Mode   string `query:"mode" required:"true" maxLength:"200" doc:"Octal digits, nine or ten letters, or a symbolic mode"`
	Change string `query:"change" maxLength:"1000" doc:"A symbolic mode to apply"`
	Folder bool   `query:"folder" doc:"It is a folder's mode"`
	Umask  string `query:"umask" maxLength:"6" default:"0022"`
	Limits string `query:"limits" maxLength:"1000" doc:"What the mode must and must not have, such as g+r,o-w"`
}

// CalculateMode explains, converts or changes a mode.
func (s *App) CalculateMode(_ context.Context, in *CalculateModeRequest) (*wire.Mode, error) {
	out, err := inquiry.Mode(inquiry.ModeAsk{
		Mode:   in.Mode,
		Change: in.Change,
		Folder: in.Folder,
		Umask:  in.Umask,
		Limits: in.Limits,
	})
	return &out, unprocessable(err)
}

// JudgePassword returns how well a new password withstands who guesses; it is kept nowhere.
func (s *App) JudgePassword(_ context.Context, in *wire.JudgedPassword) (*wire.PasswordStrength, error) {
	strength, problem := auth.Strength(in.Password, in.Name)
	out := wire.PasswordStrength{Strength: strength}
	if problem != nil {
		out.Problem = problem.Error()
	}

	return &out, nil
}

// CalculateEntriesRequest is the request of [App.CalculateEntries].
type CalculateEntriesRequest struct {
	Entries string `query:"entries" required:"true" maxLength:"20000" doc:"An access list in POSIX.1e text form, short or long"`
	Chmod   string `query:"chmod" maxLength:"200" doc:"What this mode makes of it"`
}

// CalculateEntries explains an access list.
func (s *App) CalculateEntries(_ context.Context, in *CalculateEntriesRequest) (*inquiry.ListText, error) {
	out, err := inquiry.Entries(in.Entries, in.Chmod)
	return &out, unprocessable(err)
}

// CalculateNewRequest is the request of [App.CalculateNew].
type CalculateNewRequest struct {
	In       string `query:"in" default:"0755" maxLength:"200" doc:"Mode of the folder"`
	Umask    string `query:"umask" default:"0022" maxLength:"6"`
	Defaults string `query:"defaults" maxLength:"20000" doc:"Default entries of the folder"`
}

// CalculateNew returns what new files and folders get.
func (s *App) CalculateNew(_ context.Context, in *CalculateNewRequest) (*[]wire.New, error) {
	out, err := inquiry.New(in.In, in.Defaults, in.Umask)
	return &out, unprocessable(err)
}
