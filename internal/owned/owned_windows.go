package owned

import (
	"fmt"

	"golang.org/x/sys/windows"
)

// Only gives a file, or a folder with what will be in it, an access list of its own: the
// user, the system and the administrators, who can take every file anyway, have all
// rights, and nobody else has any.
func Only(path string) error {
	user, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return fmt.Errorf("%s: whose it is could not be told: %w", path, err)
	}
	list, err := windows.SecurityDescriptorFromString(
		fmt.Sprintf("D:P(A;OICI;FA;;;%s)(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)", user.User.Sid))
	if err != nil {
		return fmt.Errorf("%s: its access list could not be made: %w", path, err)
	}
	rights, _, err := list.DACL()
	if err != nil {
		return fmt.Errorf("%s: its access list could not be made: %w", path, err)
	}
	const what = windows.DACL_SECURITY_INFORMATION | windows.PROTECTED_DACL_SECURITY_INFORMATION
	if err := windows.SetNamedSecurityInfo(path, windows.SE_FILE_OBJECT, what, nil, nil, rights, nil); err != nil {
		return fmt.Errorf("%s: it could not be kept for its owner alone: %w", path, err)
	}
	return nil
}
