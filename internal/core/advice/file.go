package advice

import "jarlid/internal/core/ident"

// ForFile is what a technician does next with a file that is at path, by what it is: the command's
// words, nil where nothing is done with such a file alone.
func ForFile(path string, f *ident.File) []string {
	switch {
	case f.Damage != "" || f.Short:
		return []string{"proof", path}
	case f.Closed != "":
		return nil
	case f.HoldsRecovery() && f.Kind != ident.VendorBoot && f.Kind != ident.BootWithRecovery:
		return []string{"recovery", "install", path}
	case f.IsPackage():
		return []string{"sideload", path}
	case f.Kind == ident.App:
		return []string{"app", path}
	case f.Generic():
		return []string{"fit", path}
	case f.Kind == ident.VBMeta:
		return []string{"vbmeta", "show", path}
	case f.Kind == ident.Archive, f.Kind == ident.ISO, f.Kind == ident.SquashFS, f.Kind == ident.Disk,
		f.Kind == ident.Payload, f.Kind == ident.Kernel:
		return []string{"lift", path, "--list"}
	case f.Kind == ident.FirmwareSet, f.Kind == ident.Images, f.Kind == ident.LoaderTable, len(f.GoesTo) > 0:
		return []string{"flash", path}
	}
	return nil
}
