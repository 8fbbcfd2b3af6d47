package cli

import (
	"os"
	"path/filepath"

	"sternledger/internal/custody"
	"sternledger/internal/ledger"
)

// engagementVariable names the engagement where no option does.
const engagementVariable = "STERNLEDGER_ENGAGEMENT"

// engagement is the folder that is meant: the one that the option names, else the
// variable, else the nearest at or above this folder that is one.
func (s *shared) engagement() string {
	if s.dir != "" {
		return s.dir
	}
	if dir := os.Getenv(engagementVariable); dir != "" {
		return dir
	}
	for dir := "."; ; dir = filepath.Join(dir, "..") {
		if isEngagement(dir) {
			return dir
		}
		here, err := filepath.Abs(dir)
		if err != nil || here == filepath.Dir(here) {
			return "."
		}
	}
}

func isEngagement(dir string) bool {
	for _, name := range []string{custody.ConfigName, ledger.FileName} {
		if _, err := os.Stat(filepath.Join(dir, name)); err != nil {
			return false
		}
	}
	return true
}
