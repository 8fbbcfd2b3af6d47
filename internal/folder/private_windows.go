package folder

import (
	"fmt"
	"os"

	"golang.org/x/sys/windows"
)

// MakePrivate makes a folder that this user alone may read: what stands for mode
// 0700 here is an access list with one entry, handed down to all in it.
func MakePrivate(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	user, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return fmt.Errorf("%s: who is the user? %w", dir, err)
	}
	security, err := windows.SecurityDescriptorFromString("D:P(A;OICI;FA;;;" + user.User.Sid.String() + ")")
	if err != nil {
		return fmt.Errorf("%s: %w", dir, err)
	}
	list, _, err := security.DACL()
	if err != nil {
		return fmt.Errorf("%s: %w", dir, err)
	}
	err = windows.SetNamedSecurityInfo(dir, windows.SE_FILE_OBJECT,
		windows.DACL_SECURITY_INFORMATION|windows.PROTECTED_DACL_SECURITY_INFORMATION, nil, nil, list, nil)
	if err != nil {
		return fmt.Errorf("%s: its access list: %w", dir, err)
	}
	return nil
}
