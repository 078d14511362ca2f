package web

// Paths that are treated differently before it is known which operation they are of.
const (
	APIPath     = "/api/v1"
	signInPath  = APIPath + "/sign-in"
	followPath  = APIPath + "/happenings"
	calculators = APIPath + "/calculate/"
	importPath  = APIPath + "/snapshots/import"
	reportPath  = APIPath + "/runs/report"
)

const (
	MaxBody   = 2 << 20
	maxImport = 4 << 30
	maxReport = 1 << 30
)

// large returns how many bytes a body may have that is read as it comes; 0 of any other call.
func large(path string) int64 {
	switch path {
	case importPath:
		return maxImport
	case reportPath:
		return maxReport
	}
	return 0
}
