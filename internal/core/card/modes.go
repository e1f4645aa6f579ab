package card

// ModeDef is a row of the table of modes: what a mode can do and how a phone gets there.
type ModeDef struct {
	Mode  Mode
	Words string // of a phone that is in it: "in its bootloader"
	// Fastboot: it speaks fastboot.
	Fastboot bool
	// Images: it takes images for partitions by command.
	Images bool
	// Reads: it can give out partitions by command.
	Reads bool
	// Early: nothing was booted from a slot yet.
	Early bool
	// Shell: it can have a shell.
	Shell bool
	// ByKeys: only keys lead into it, and from it only into the system.
	ByKeys bool
	// Silent: it reports nothing but the mode and the model.
	Silent bool
}

// modes is the table, in the order in which modes are offered.
var modes = []ModeDef{
	{Mode: Bootloader, Words: "in its bootloader", Fastboot: true, Images: true, Early: true},
	{Mode: Fastbootd, Words: "in userspace fastboot", Fastboot: true, Images: true, Reads: true},
	{Mode: Recovery, Words: "in recovery", Shell: true},
	{Mode: Sideload, Words: "waiting for a package", Silent: true},
	{Mode: System, Words: "with its system running", Shell: true},
	{Mode: Loader, Words: "in its maker's loader", Images: true, Reads: true, Early: true, ByKeys: true},
}

// Modes are all modes a phone can be sent to.
var Modes = ModesThat(func(ModeDef) bool { return true })

// ModesThat are the modes of which something is true, in the order of the table.
func ModesThat(is func(ModeDef) bool) (list []Mode) {
	for _, d := range modes {
		if is(d) {
			list = append(list, d.Mode)
		}
	}
	return list
}

// Def is the row of a mode; an empty one for None.
func (m Mode) Def() ModeDef {
	for _, d := range modes {
		if d.Mode == m {
			return d
		}
	}
	return ModeDef{Words: "not seen"}
}

// ImageModes are the modes that take images by command, the preferred one first.
func ImageModes() []Mode { return ModesThat(func(d ModeDef) bool { return d.Images }) }

// FastbootModes are the modes that speak fastboot.
func FastbootModes() []Mode { return ModesThat(func(d ModeDef) bool { return d.Fastboot }) }
