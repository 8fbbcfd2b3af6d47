//go:build unix

package cli

import (
	"os"

	"golang.org/x/sys/unix"
)

// closed reports whether a standard stream was closed when the program began. Go's
// runtime then opens the null device in its place, to read and to write: what is printed
// would be lost without a word. What a shell redirects there is opened to write alone.
func closed(f *os.File) bool {
	var at, null unix.Stat_t
	if unix.Fstat(int(f.Fd()), &at) != nil || unix.Stat(os.DevNull, &null) != nil || at.Rdev != null.Rdev || at.Mode&unix.S_IFMT != unix.S_IFCHR {
		return false
	}
	flags, err := unix.FcntlInt(f.Fd(), unix.F_GETFL, 0)
	return err == nil && flags&unix.O_ACCMODE == unix.O_RDWR
}
