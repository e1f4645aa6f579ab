package recovery

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"

	"mvdan.cc/sh/v3/interp"

	"jarlid/internal/core/image/apk"
	"jarlid/internal/core/image/appsig"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/kernel"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/standin/device"
)

// The programs of the started system.

// tmpPath is the one folder of a system that its shell may write to.
const tmpPath = "/data/local/tmp"

// dumpsys knows account.
func (sh *shell) dumpsys(_ context.Context, h interp.HandlerContext, args []string) error {
	if len(args) != 1 || args[0] != "account" || sh.r.Vault == nil {
		return fmt.Errorf("Can't find service: %s", strings.Join(args, " "))
	}
	sh.p.Mu.Lock()
	n := sh.r.Vault.Accounts
	sh.p.Mu.Unlock()
	fmt.Fprintf(h.Stdout, "User UserInfo{0:Owner:13}:\n  Accounts: %d\n", n)
	for i := range n {
		fmt.Fprintf(h.Stdout, "    Account {name=observer%d@saltmarsh.example, type=org.saltmarsh}\n", i+1)
	}
	return nil
}

// locksettings knows get-disabled: whether there is no lock screen at all.
func (sh *shell) locksettings(_ context.Context, h interp.HandlerContext, args []string) error {
	if len(args) != 1 || args[0] != "get-disabled" || sh.r.Vault == nil {
		return errors.New("Unknown command")
	}
	sh.p.Mu.Lock()
	lock := sh.r.Vault.Lock
	sh.p.Mu.Unlock()
	fmt.Fprintln(h.Stdout, !lock) // not with the phone held: who reads it may need the phone
	return nil
}

// pm knows install [-r] FILE and list packages.
func (sh *shell) pm(_ context.Context, h interp.HandlerContext, args []string) error {
	p, v := sh.p, sh.r.Vault
	if v == nil || len(args) == 0 {
		return errors.New("Can't find service: package")
	}
	switch {
	case args[0] == "list":
		p.Mu.Lock()
		apps := slices.Clone(v.Apps)
		p.Mu.Unlock()
		for _, a := range apps {
			fmt.Fprintln(h.Stdout, "package:"+a.Name)
		}
		return nil
	case args[0] == "install":
		names, _ := operands(args[1:])
		if len(names) != 1 {
			return errors.New("no package specified")
		}
		return answer(h, sh.install([]string{path.Clean(names[0])}))
	case strings.HasPrefix(args[0], "install-"):
		return sh.session(h, args[0], args[1:])
	}
	return fmt.Errorf("unknown command '%s'", args[0])
}

// answer prints the result of an install.
func answer(h interp.HandlerContext, err error) error {
	var no installRefusal
	if errors.As(err, &no) {
		fmt.Fprintf(h.Stdout, "Failure [%s]\n", string(no))
		return interp.ExitStatus(1)
	}
	if err == nil {
		fmt.Fprintln(h.Stdout, "Success")
	}
	return err
}

// session is pm's install-create, -write, -commit and -abandon (frameworks/base,
// PackageManagerShellCommand.java).
func (sh *shell) session(h interp.HandlerContext, what string, args []string) error {
	p := sh.p
	if what == "install-create" {
		p.Mu.Lock()
		defer p.Mu.Unlock()
		sh.r.LastSession += 1000
		sh.r.Sessions = map[string][]string{strconv.Itoa(sh.r.LastSession): {}}
		fmt.Fprintf(h.Stdout, "Success: created install session [%d]\n", sh.r.LastSession)
		return nil
	}
	size := int64(-1)
	if len(args) > 1 && args[0] == "-S" {
		size, _ = strconv.ParseInt(args[1], 10, 64)
		args = args[2:]
	}
	if len(args) == 0 {
		return errors.New("no session specified")
	}
	p.Mu.Lock()
	files, known := sh.r.Sessions[args[0]]
	p.Mu.Unlock()
	if !known {
		fmt.Fprintln(h.Stdout, "Failure [SecurityException: Caller has no access to session "+args[0]+"]")
		return interp.ExitStatus(1)
	}
	switch what {
	case "install-write":
		if len(args) != 3 {
			return errors.New("no file specified")
		}
		local, _, _ := sh.local(path.Clean(args[2]))
		if st, err := os.Stat(local); err != nil || st.Size() != size {
			fmt.Fprintf(h.Stdout, "Error: Unable to read %d bytes of %s\n", size, args[2])
			return interp.ExitStatus(1)
		}
		p.Mu.Lock()
		sh.r.Sessions[args[0]] = append(files, path.Clean(args[2]))
		p.Mu.Unlock()
		fmt.Fprintf(h.Stdout, "Success: streamed %d bytes\n", size)
		return nil
	case "install-commit":
		p.Mu.Lock()
		delete(sh.r.Sessions, args[0])
		p.Mu.Unlock()
		return answer(h, sh.install(files))
	}
	p.Mu.Lock()
	delete(sh.r.Sessions, args[0])
	p.Mu.Unlock()
	fmt.Fprintln(h.Stdout, "Success")
	return nil
}

// installRefusal is why pm does not install an app, as it prints it.
type installRefusal string

func (r installRefusal) Error() string { return string(r) }

// install installs an app of one package and its parts.
func (sh *shell) install(names []string) error {
	p, v := sh.p, sh.r.Vault
	var a *apk.App
	var signed *appsig.Signature
	var abis []string
	splits := map[string]bool{}
	for _, name := range names {
		one, by, err := sh.appFile(name)
		switch {
		case err != nil:
			return err
		case splits[one.Split]:
			return installRefusal("INSTALL_FAILED_INVALID_APK: Split " + one.Split +
				" was defined multiple times")
		case a != nil && (one.Name != a.Name || one.Version != a.Version):
			return installRefusal("INSTALL_FAILED_INVALID_APK: " + one.Name + " inconsistent with " + a.Name)
		case a != nil && !by.Current()[0].Cert.Equal(signed.Current()[0].Cert):
			return installRefusal("INSTALL_FAILED_INVALID_APK: signatures are inconsistent")
		}
		if abis, splits[one.Split] = append(abis, one.ABIs...), true; a == nil || one.Split == "" {
			a, signed = one, by
		}
	}
	switch {
	case !splits[""]:
		return installRefusal("INSTALL_FAILED_INVALID_APK: Full install must include a base package")
	case a.Parts && len(names) == 1:
		return installRefusal("INSTALL_FAILED_MISSING_SPLIT: Missing split for " + a.Name)
	}
	runs := map[string][]string{"arm64-v8a": {"arm64-v8a", "armeabi-v7a", "armeabi"},
		"armeabi-v7a": {"armeabi-v7a", "armeabi"}}[sh.r.Props["ro.product.cpu.abi"]]
	if len(abis) > 0 && !slices.ContainsFunc(abis, func(s string) bool { return slices.Contains(runs, s) }) {
		return installRefusal("INSTALL_FAILED_NO_MATCHING_ABIS: Failed to extract native libraries, res=-113")
	}
	if sdk, _ := strconv.ParseInt(sh.r.Props["ro.build.version.sdk"], 10, 64); a.MinSDK > sdk {
		return installRefusal(
			fmt.Sprintf("INSTALL_FAILED_OLDER_SDK: Requires newer sdk version #%d (current "+
				"version is #%d)", a.MinSDK, sdk))
	}
	p.Mu.Lock()
	defer p.Mu.Unlock()
	i := slices.IndexFunc(v.Apps, func(o device.App) bool { return o.Name == a.Name })
	// Earlier keys count too, of which the fingerprint of the installed one's key is all that is kept.
	signer := zipsig.Fingerprint(signed.Current()[0].Cert)
	before := []string{signer}
	for _, k := range signed.Current()[0].Earlier {
		if k.Flags&appsig.InstalledData != 0 {
			before = append(before, zipsig.Fingerprint(k.Cert))
		}
	}
	if i >= 0 && v.Apps[i].Signer != "" && !slices.Contains(before, v.Apps[i].Signer) {
		return installRefusal("INSTALL_FAILED_UPDATE_INCOMPATIBLE: Existing package " + a.Name +
			" signatures do not match newer version; ignoring!")
	}
	if i >= 0 && v.Apps[i].Version > a.Version {
		return installRefusal(
			fmt.Sprintf("INSTALL_FAILED_VERSION_DOWNGRADE: Downgrade detected: Update version "+
				"code %d is older than current %d", a.Version, v.Apps[i].Version))
	}
	if i < 0 {
		v.Apps = append(v.Apps, device.App{Name: a.Name})
		i = len(v.Apps) - 1
	}
	delete(splits, "")
	v.Apps[i].Version, v.Apps[i].Signer = a.Version, signer
	v.Apps[i].Parts = slices.Sorted(maps.Keys(splits))
	return p.SaveVault(v, sh.r.Key)
}

// appFile reads one file of an app, and who signed it.
func (sh *shell) appFile(name string) (*apk.App, *appsig.Signature, error) {
	local, _, _ := sh.local(name)
	f, err := os.Open(local)
	if err != nil {
		return nil, nil, errors.New("Can't open file: " + name)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, nil, err
	}
	a, err := apk.Parse(f, st.Size())
	if err != nil {
		return nil, nil, installRefusal("INSTALL_PARSE_FAILED_UNEXPECTED_EXCEPTION: " + err.Error())
	}
	signed, err := appsig.Verify(context.Background(), f, st.Size(), nil)
	if err != nil {
		return nil, nil, installRefusal("INSTALL_PARSE_FAILED_NO_CERTIFICATES: Failed to collect " +
			"certificates from " +
			name + ": " + err.Error())
	}
	return a, signed, nil
}

// uname knows -r: the release of the kernel that runs.
func (sh *shell) uname(_ context.Context, h interp.HandlerContext, args []string) error {
	k, err := sh.p.kernel()
	if err == nil {
		fmt.Fprintln(h.Stdout, k.Version)
	}
	return err
}

// kernel reads what the kernel that runs says of itself.
func (p *Runner) kernel() (*kernel.Info, error) {
	p.Mu.Lock()
	run := p.Running
	p.Mu.Unlock()
	if run == nil {
		return nil, errNotMounted
	}
	v, err := p.Store.Open(p.On("boot", run.Slot))
	if err != nil {
		return nil, err
	}
	defer v.Close()
	m, err := boot.Parse(v, v.Size)
	if err != nil {
		return nil, err
	}
	return kernel.Read(m.Open(v, "kernel"), m.Section("kernel").Size)
}

// kernelConfig is /proc/config.gz, which kernels have that carry their configuration.
func (p *Runner) kernelConfig() (io.ReadCloser, error) {
	k, err := p.kernel()
	if err == nil && k.Config == "" {
		err = errNotMounted
	}
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	io.WriteString(z, k.Config+"\n")
	z.Close()
	return io.NopCloser(&b), nil
}
