package file

// Steers has nothing to say on Windows: folders of a user are for that user alone
// there, and a mode says nothing.
func Steers(string) error { return nil }
