package host

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"unsafe"

	"github.com/inconshreveable/mousetrap"
	"golang.org/x/sys/windows"

	"jarlid/internal/core/local"
)

// passing reports whether an error is one of a moment: another program has the file open, or it is
// being deleted. Access denied is both, a moment's and for good.
func passing(err error) bool {
	return errors.Is(err, windows.ERROR_SHARING_VIOLATION) || errors.Is(err, windows.ERROR_LOCK_VIOLATION) ||
		errors.Is(err, windows.ERROR_ACCESS_DENIED) || errors.Is(err, windows.ERROR_DELETE_PENDING)
}

// writable takes the read-only mark off a file, and reports whether there was one.
func writable(name string) bool {
	st, err := os.Stat(name)
	return err == nil && st.Mode()&0o200 == 0 && os.Chmod(name, st.Mode()|0o200) == nil
}

// Sparse marks a file as one with holes: else what is skipped is written as zeros (winioctl.h,
// FSCTL_SET_SPARSE).
func Sparse(f *os.File) error {
	const setSparse = 0x900c4
	var n uint32
	return windows.DeviceIoControl(windows.Handle(f.Fd()), setSparse, nil, 0, nil, 0, &n, nil)
}

// OwnerOnly gives a file to its owner alone: an access list that names nobody else and takes nothing
// from the folder.
func OwnerOnly(name string) error {
	user, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return err
	}
	list, err := windows.ACLFromEntries([]windows.EXPLICIT_ACCESS{{AccessPermissions: windows.GENERIC_ALL,
		AccessMode: windows.SET_ACCESS, Inheritance: windows.NO_INHERITANCE,
		Trustee: windows.TRUSTEE{TrusteeForm: windows.TRUSTEE_IS_SID, TrusteeType: windows.TRUSTEE_IS_USER,
			TrusteeValue: windows.TrusteeValueFromSID(user.User.Sid)}}}, nil)
	if err != nil {
		return err
	}
	err = windows.SetNamedSecurityInfo(name, windows.SE_FILE_OBJECT, windows.DACL_SECURITY_INFORMATION|
		windows.PROTECTED_DACL_SECURITY_INFORMATION, nil, nil, list, nil)
	if errors.Is(err, windows.ERROR_NOT_SUPPORTED) || errors.Is(err, windows.ERROR_INVALID_FUNCTION) ||
		errors.Is(err, windows.ERROR_CALL_NOT_IMPLEMENTED) {
		return nil // a disk without access lists, such as FAT
	}
	return err
}

// DataFolder is where programs keep what belongs to this computer's user: not the roaming profile, which
// goes with the user to other computers.
func DataFolder() (string, error) {
	if dir := os.Getenv("LOCALAPPDATA"); filepath.IsAbs(dir) {
		return dir, nil
	}
	return windows.KnownFolderPath(windows.FOLDERID_LocalAppData, 0)
}

// TypedIn is the shell commands are typed in: the program that started this one.
func TypedIn() local.Shell {
	switch name := parent(); {
	case strings.HasPrefix(name, "powershell"), strings.HasPrefix(name, "pwsh"):
		return local.PowerShell
	case name == "bash.exe", name == "sh.exe", name == "zsh.exe":
		return local.Posix
	}
	return local.Cmd
}

// parent is the name of the program that started this one, in small letters.
func parent() string {
	all, err := windows.CreateToolhelp32Snapshot(windows.TH32CS_SNAPPROCESS, 0)
	if err != nil {
		return ""
	}
	defer windows.CloseHandle(all)
	pid := uint32(os.Getppid())
	e := windows.ProcessEntry32{}
	e.Size = uint32(unsafe.Sizeof(e))
	for err := windows.Process32First(all, &e); err == nil; err = windows.Process32Next(all, &e) {
		if e.ProcessID == pid {
			return strings.ToLower(windows.UTF16ToString(e.ExeFile[:]))
		}
	}
	return ""
}

// Folds reports whether names that differ by case are one.
const Folds = true

// utf8 is the code page of UTF-8 (Code Page Identifiers).
const utf8 = 65001

// Prepare makes the window show colours and move its cursor by sequences (virtual terminal mode),
// and take what is written as UTF-8. Where it can't, TERM is set to dumb: text alone. What it changes
// is given back.
func Prepare() (back func()) {
	var undo []func()
	back = func() {
		for _, u := range undo {
			u()
		}
	}
	if page, err := windows.GetConsoleOutputCP(); err == nil && page != utf8 && windows.SetConsoleOutputCP(
		utf8) == nil {
		undo = append(undo, func() { _ = windows.SetConsoleOutputCP(page) })
	}
	out := windows.Handle(os.Stdout.Fd())
	var mode uint32
	if windows.GetConsoleMode(out, &mode) != nil {
		return back // no window
	}
	if windows.SetConsoleMode(out, mode|windows.ENABLE_PROCESSED_OUTPUT|
		windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) != nil {
		_ = os.Setenv("TERM", "dumb") // an old one: it would show the sequences as text
		return back
	}
	undo = append(undo, func() { _ = windows.SetConsoleMode(out, mode) })
	return back
}

// Hold keeps the window and the computer from stopping a job: a click in the window would select
// text and halt whoever writes there (quick edit), and the computer would fall asleep.
func Hold() (release func()) {
	var undo []func()
	in := windows.Handle(os.Stdin.Fd())
	var mode uint32
	if windows.GetConsoleMode(in, &mode) == nil && mode&windows.ENABLE_QUICK_EDIT_MODE != 0 &&
		windows.SetConsoleMode(in, mode&^windows.ENABLE_QUICK_EDIT_MODE|
			windows.ENABLE_EXTENDED_FLAGS) == nil {
		undo = append(undo, func() { _ = windows.SetConsoleMode(in, mode) })
	}
	undo = append(undo, awake())
	return func() {
		for _, u := range undo {
			u()
		}
	}
}

// awake keeps the computer from falling asleep (winbase.h, SetThreadExecutionState). The wish is that
// of a thread, and ends with it.
func awake() (sleep func()) {
	const continuous, required = 0x80000000, 0x00000001
	set := windows.NewLazySystemDLL("kernel32.dll").NewProc("SetThreadExecutionState")
	if set.Find() != nil {
		return func() {}
	}
	end, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		_, _, _ = set.Call(continuous | required) // a computer that can't be kept awake is none we can change
		<-end
		_, _, _ = set.Call(continuous)
	}()
	return func() { close(end); <-ended }
}

// Clicked reports whether the program was started by a double click, or by a file that was dropped on
// it: its window closes with it.
func Clicked() bool { return mousetrap.StartedByExplorer() }
