//go:build linux && (amd64 || arm64)

package usb

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"jarlid/internal/link"
)

// tree is a sysfs made of files.
type tree struct {
	*testing.T
	l *Linux
}

func newTree(t *testing.T) *tree {
	dir := t.TempDir()
	return &tree{t, &Linux{Sys: filepath.Join(dir, "sys"), Dev: filepath.Join(dir, "dev"),
		Proc: filepath.Join(dir, "proc")}}
}

func (r *tree) write(path, text string) {
	r.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755),
		os.WriteFile(path, []byte(text), 0o644)); err != nil {
		r.Fatalf("errors.Join(...): %v", err)
	}
}

func (r *tree) link(from, to string) {
	r.Helper()
	if err := errors.Join(os.MkdirAll(to, 0o755), os.MkdirAll(filepath.Dir(from), 0o755),
		os.Symlink(to, from)); err != nil {
		r.Fatalf("errors.Join(os.MkdirAll(to, 0o755), ..., os.Symlink(to, from)): %v", err)
	}
}

// device makes one with its node and the folders of its interfaces.
func (r *tree) device(name, descriptors string, attrs map[string]string, interfaces ...string) {
	r.Helper()
	dir := filepath.Join(r.l.Sys, name)
	all := map[string]string{"busnum": "1\n", "devnum": "7\n", "speed": "480\n", "bConfigurationValue": "1\n",
		"bDeviceClass": "00\n", "serial": "WL-DU-0007\n",
		"descriptors": string(bytesOf(r, descriptors))}
	for k, v := range attrs {
		all[k] = v
	}
	for k, v := range all {
		r.write(filepath.Join(dir, k), v)
	}
	for _, i := range interfaces {
		if err := os.MkdirAll(filepath.Join(dir, name+":"+i), 0o755); err != nil {
			r.Fatalf("os.MkdirAll(filepath.Join(dir, name+':'+i), 0o755): %v", err)
		}
	}
	r.write(filepath.Join(r.l.Dev, "001", "007"), "")
}

func (r *tree) list() []Device {
	r.Helper()
	list, err := r.l.List()
	if err != nil {
		r.Fatalf("r.l.List(): %v", err)
	}
	return list
}

// TestList reads devices as sysfs shows them: hubs, root hubs and interfaces are none, one that
// is being set up is not there yet, one that lies says so.
func TestList(t *testing.T) {
	r := newTree(t)
	if len(r.list()) != 0 {
		t.Error("a kernel without USB shows devices")
	}
	r.device("1-4.2", deviceHex+fastboot1, map[string]string{"speed": "1.5\n",
		"manufacturer": "Wicker\x1blight\n"}, "1.0")
	// no number
	r.device("1-5", deviceHex+system2, map[string]string{"serial": "", "busnum": "x"}, "1.0", "1.1")
	// its second interface comes later
	r.device("1-6", deviceHex+system2, nil, "1.0")
	r.device("1-7", deviceHex+fastboot1, map[string]string{"bDeviceClass": "09\n"}, "1.0") // a hub
	r.device("1-8", deviceHex+"01", nil)
	// nothing is configured
	r.device("1-9", deviceHex+fastboot1, map[string]string{"bConfigurationValue": "\n"})
	r.device("usb1", deviceHex+fastboot1, nil, "1.0")
	r.write(filepath.Join(r.l.Sys, "1-4.2:1.0", "x"), "")
	var got []string
	for _, d := range r.list() {
		_, phone := d.Phone()
		got = append(got, d.Port+map[bool]string{true: " phone", false: ""}[phone]+
			map[bool]string{true: " broken", false: ""}[d.Broken != ""])
	}
	if s := strings.Join(got, ", "); s != "1-4.2 phone, 1-8 broken, 1-9" {
		t.Errorf("%s; unwanted: s != '1-4.2 phone, 1-8 broken, 1-9'", s)
	}
	if d := r.list()[0]; d.Speed != 1 || d.Maker != "Wicker?light" || d.Serial != "WL-DU-0007" ||
		d.Bus != 1 || d.Number != 7 {
		t.Errorf("%+v; unwanted: d.Speed != 1 || d.Maker != 'Wicker?light' || d.Serial != ...", d)
	}
}

// TestPeer: one socket with two buses is one, behind a root hub and behind another one.
func TestPeer(t *testing.T) {
	for peer, want := range map[string]string{
		"usb2/2-0:1.0/usb2-port1": "2-1",
		"2-1/2-1:1.0/2-1-port3":   "2-1.3",
		"odd":                     "",
	} {
		r := newTree(t)
		r.device("1-4", deviceHex+fastboot1, nil, "1.0")
		port := filepath.Join(r.l.Sys, "devices", "usb1-port4")
		r.link(filepath.Join(r.l.Sys, "1-4", "port"), port)
		r.link(filepath.Join(port, "peer"), filepath.Join(r.l.Sys, "devices", peer))
		if d := r.list()[0]; d.Peer != want || !d.At("1-4") || want != "" && !d.At(want) || d.At("") ||
			d.At("1-5") {
			t.Errorf("%s: %+v; unwanted: d.Peer != want || !d.At('1-4') || want != '' && !d.At(want) || ...",
				peer, d)
		}
	}
}

// TestOpenRefused: what can't be opened says why, and rights that come late are waited for.
func TestOpenRefused(t *testing.T) {
	r := newTree(t)
	r.device("1-4", deviceHex+fastboot1, nil, "1.0")
	d := r.list()[0]
	var rule *link.ProtocolError
	if _, err := r.l.Open(t.Context(), d, Interface{Packet: 512, In: 0x81}); !errors.As(err, &rule) {
		t.Errorf("one endpoint alone: %v", err)
	}
	d.Number = 9
	if _, err := r.l.Open(t.Context(), d, d.Interfaces[0]); !errors.Is(err, ErrGone) {
		t.Errorf("a node that is gone: %v", err)
	}
	if os.Getuid() == 0 {
		return // the system refuses root nothing
	}
	d.Number = 7
	node := filepath.Join(r.l.Dev, "001", "007")
	if err := os.Chmod(node, 0); err != nil {
		t.Fatalf("os.Chmod(node, 0): %v", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	var denied *PermissionError
	if _, err := r.l.Open(ctx, d, d.Interfaces[0]); !errors.As(err, &denied) {
		t.Errorf("no permission: %v", err)
	}
}

// TestHolder names who has a node open, out of /proc.
func TestHolder(t *testing.T) {
	r := newTree(t)
	node := filepath.Join(r.l.Dev, "001", "007")
	i := Interface{}
	var held *HeldError
	if err := r.l.holder(-1, node, i); !errors.As(err, &held) || held.PID != 0 ||
		!strings.Contains(err.Error(), "another user") {
		t.Errorf("r.l.holder(-1, node, i): %v", err)
	}
	r.write(filepath.Join(r.l.Proc, "12", "comm"), "flock\x1bwatch\n")
	if err := os.MkdirAll(filepath.Join(r.l.Proc, "12", "fd"), 0o755); err != nil {
		t.Fatalf("os.MkdirAll(..., 0o755): %v", err)
	}
	if err := os.Symlink(node, filepath.Join(r.l.Proc, "12", "fd", "5")); err != nil {
		t.Fatalf("os.Symlink(node, ...): %v", err)
	}
	if err := r.l.holder(-1, node, i); !errors.As(err, &held) || held.PID != 12 ||
		held.Program != "flock?watch" {
		t.Errorf("r.l.holder(-1, node, i): %v", err)
	}
}

// TestErrnos: every errno of an unplug is a lost phone (Documentation/driver-api/usb/error-codes.rst).
func TestErrnos(t *testing.T) {
	for no, want := range map[unix.Errno]error{unix.ESHUTDOWN: ErrGone, unix.ENODEV: ErrGone,
		unix.EPROTO: ErrGone, unix.ENOENT: ErrGone, unix.EILSEQ: ErrGone, unix.EIO: ErrGone,
		unix.EPIPE: ErrStalled} {
		if err := mapped(no); !errors.Is(err, want) {
			t.Errorf("%v is %v", no, err)
		}
	}
	var rule *link.ProtocolError
	if !errors.As(mapped(unix.EOVERFLOW), &rule) || errors.Is(mapped(unix.ENOMEM), ErrGone) {
		t.Error("other errnos")
	}
}
