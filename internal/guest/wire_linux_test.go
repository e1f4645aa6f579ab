package guest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"jarlid/internal/link"
	"jarlid/internal/link/usb"
	"jarlid/internal/link/usb/soft"
)

func onlyInside(t testing.TB) {
	t.Helper()
	if os.Getenv(inside) == "" {
		t.Skip("this runs in the guest, which TestGuest boots")
	}
}

// long is how long anything may take in the guest, which is slow.
const long = time.Minute

// plug plugs a device into the guest's kernel and waits until the kernel shows it.
func plug(t *testing.T, g soft.Gadget) (*soft.Device, usb.Device, func()) {
	t.Helper()
	d := soft.NewDevice(g)
	unplug, err := (&soft.Kernel{}).Plug(d, false)
	if err != nil {
		t.Fatalf("(&soft.Kernel{}).Plug(d, false): %v", err)
	}
	t.Cleanup(unplug)
	return d, shown(t, g.Serial), unplug
}

// shown waits until a device of that serial number is listed.
func shown(t *testing.T, serial string) usb.Device {
	t.Helper()
	for end := time.Now().Add(long); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		list, err := usb.System().List()
		if err != nil {
			t.Fatalf("usb.System().List(): %v", err)
		}
		for _, d := range list {
			if d.Serial == serial {
				return d
			}
		}
	}
	t.Fatalf("the kernel never showed %s", serial)
	return usb.Device{}
}

func loader(serial string) soft.Gadget {
	return soft.Gadget{Vendor: 0x1209, Product: 1, Maker: "Wickerlight", Name: "Dunlin", Serial: serial,
		Functions: []soft.Function{soft.Phone(usb.ProtocolFastboot)}}
}

func open(t *testing.T, d usb.Device) usb.Pipe {
	t.Helper()
	i, ok := d.Phone()
	if !ok {
		t.Fatalf("%+v is no phone", d)
	}
	p, err := usb.System().Open(t.Context(), d, i)
	if err != nil {
		t.Fatalf("usb.System().Open(d, i): %v", err)
	}
	t.Cleanup(func() { p.Close() })
	return p
}

func pattern(n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(i ^ i>>8 ^ i>>16)
	}
	return b
}

// TestInWireBulk moves transfers of many lengths both ways, at each speed: what arrives is what
// was sent, and ends where it ended.
func TestInWireBulk(t *testing.T) {
	onlyInside(t)
	for _, speed := range []int{soft.Full, soft.High, soft.Super} {
		t.Run(fmt.Sprint(speed), func(t *testing.T) {
			g := loader(fmt.Sprintf("BULK%d", speed))
			g.Speed = speed
			dev, u, _ := plug(t, g)
			if u.Speed != speed || u.Vendor != 0x1209 || u.Name != "Dunlin" || u.Maker != "Wickerlight" ||
				u.Broken != "" {
				t.Errorf("%+v; unwanted: u.Speed != speed || u.Vendor != 0x1209 || u.Name != 'Dunlin' || ...",
					u)
			}
			p := open(t, u)
			packet := p.Packet()
			ctx, cancel := context.WithTimeout(t.Context(), 3*long)
			defer cancel()
			for _, n := range []int{1, packet - 1, packet, packet + 1, 3 * packet, 64 << 10, 64<<10 + 1,
				700<<10 + 7, 2 << 20} {
				want := pattern(n)
				got := make(chan []byte, 1)
				go func() {
					var all []byte
					buf := make([]byte, 16<<10)
					for len(all) < n {
						// a full packet ends nothing
						k, err := dev.Recv(ctx, 1, buf[:min(len(buf), n-len(all))])
						if err != nil {
							break
						}
						all = append(all, buf[:k]...)
					}
					got <- all
				}()
				if k, err := p.Write(ctx, want); k != n || err != nil {
					t.Fatalf("%d bytes out: %d, %v", n, k, err)
				}
				if b := <-got; !bytes.Equal(b, want) {
					t.Errorf("%d bytes out: %d came", n, len(b))
				}
				go dev.Send(ctx, 1, want, false)
				back, buf := []byte(nil), make([]byte, (n+packet-1)/packet*packet)
				for len(back) < n {
					k, err := p.Read(ctx, buf[:(n-len(back)+packet-1)/packet*packet])
					if err != nil {
						t.Fatalf("%d bytes in: %v after %d", n, err, len(back))
					}
					back = append(back, buf[:k]...)
				}
				if !bytes.Equal(back, want) {
					t.Errorf("%d bytes in: %d came", n, len(back))
				}
			}
			// A packet without bytes ends a read that it comes to, and is one to the device.
			go dev.Send(ctx, 1, pattern(packet), true)
			if k, err := p.Read(ctx, make([]byte, 4*packet)); k != packet || err != nil {
				t.Errorf("a full packet and an empty one: %d, %v", k, err)
			}
			none := make(chan int, 1)
			go func() {
				k, _ := dev.Recv(ctx, 1, make([]byte, packet))
				none <- k
			}()
			if _, err := p.Write(ctx, nil); err != nil || <-none != 0 {
				t.Errorf("an empty packet: %v", err)
			}
		})
	}
}

// TestInWireEnds: a read that is given up keeps what had come; a stall is one until it is
// cleared; a second claim names who holds the interface; a reset keeps it.
func TestInWireEnds(t *testing.T) {
	onlyInside(t)
	dev, u, _ := plug(t, loader("ENDS"))
	p := open(t, u)
	ctx := t.Context()
	short, cancel := context.WithTimeout(ctx, 200*time.Millisecond)
	defer cancel()
	if _, err := p.Read(short, make([]byte, 512)); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("nothing to read: %v", err)
	}
	go dev.Send(ctx, 1, []byte("OKAY"), false)
	buf := make([]byte, 512)
	if n, err := p.Read(ctx, buf); string(buf[:n]) != "OKAY" || err != nil {
		t.Errorf("after a read that was given up: %q, %v", buf[:n], err)
	}
	dev.Halt(0x81)
	if _, err := p.Read(ctx, buf); !errors.Is(err, usb.ErrStalled) {
		t.Errorf("a stall: %v", err)
	}
	if err := p.ClearHalt(); err != nil {
		t.Fatalf("p.ClearHalt(): %v", err)
	}
	go dev.Send(ctx, 1, []byte("INFO"), false)
	if n, err := p.Read(ctx, buf); string(buf[:n]) != "INFO" || err != nil {
		t.Errorf("after a stall: %q, %v", buf[:n], err)
	}
	i, _ := u.Phone()
	_, err := usb.System().Open(ctx, u, i)
	var held *usb.HeldError
	if !errors.As(err, &held) || held.PID != os.Getpid() || held.Program == "" {
		t.Errorf("a second claim: %v", err)
	}
	if err := p.Reset(); err != nil {
		t.Errorf("a reset: %v", err)
	}
	go dev.Send(ctx, 1, []byte("OKAY again"), false)
	if n, err := p.Read(ctx, buf); string(buf[:n]) != "OKAY again" || err != nil {
		t.Errorf("after a reset: %q, %v", buf[:n], err)
	}
	// A read that waits ends with the pipe.
	ended := make(chan error, 1)
	go func() {
		_, err := p.Read(ctx, make([]byte, 512))
		ended <- err
	}()
	time.Sleep(100 * time.Millisecond)
	p.Close()
	select {
	case err := <-ended:
		if err == nil {
			t.Error("a read of a closed pipe gave something")
		}
	case <-time.After(long):
		t.Error("a read outlives its pipe")
	}
	if _, err := p.Write(ctx, []byte("x")); !errors.Is(err, usb.ErrGone) {
		t.Errorf("a write to a closed pipe: %v", err)
	}
	if _, err := p.Read(ctx, buf); !errors.Is(err, usb.ErrGone) {
		t.Errorf("a read of a closed pipe: %v", err)
	}
	if p, err = usb.System().Open(ctx, u, i); err != nil {
		t.Errorf("let go and claimed again: %v", err)
	} else {
		p.Close()
	}
}

// TestInWireUnplug pulls the cable at many places of transfers both ways: each ends, as a phone
// that is lost, and never hangs.
func TestInWireUnplug(t *testing.T) {
	onlyInside(t)
	for i, at := range []int64{1, 511, 512, 70 << 10, 512 << 10, 900 << 10} {
		dev, u, unplug := plug(t, loader(fmt.Sprintf("UNPLUG%d", i)))
		p := open(t, u)
		dev.After(at, unplug)
		go io.Copy(io.Discard, taker{dev})
		both := make(chan error, 2)
		go func() { _, err := p.Write(context.Background(), pattern(1<<20)); both <- err }()
		go func() { _, err := p.Read(context.Background(), make([]byte, 64<<10)); both <- err }()
		for range 2 {
			select {
			case err := <-both:
				if !errors.Is(err, usb.ErrGone) {
					t.Errorf("unplugged after %d bytes: %v", at, err)
				}
			case <-time.After(long):
				t.Fatalf("unplugged after %d bytes, and a transfer hangs", at)
			}
		}
		if _, err := p.Write(context.Background(), []byte("x")); !errors.Is(err, usb.ErrGone) {
			t.Errorf("behind that: %v", err)
		}
		p.Close()
		i, _ := u.Phone()
		if _, err := usb.System().Open(context.Background(), u, i); !errors.Is(err, usb.ErrGone) {
			t.Errorf("its old node: %v", err)
		}
	}
}

type taker struct{ d *soft.Device }

func (r taker) Read(b []byte) (int, error) { return r.d.Recv(context.Background(), 1, b) }

// TestInWireMemory: where the kernel has no memory for more transfers, pieces get smaller and
// all goes on.
func TestInWireMemory(t *testing.T) {
	onlyInside(t)
	const knob = "/sys/module/usbcore/parameters/usbfs_memory_mb"
	before, err := os.ReadFile(knob)
	if err != nil {
		t.Fatalf("os.ReadFile(knob): %v", err)
	}
	defer os.WriteFile(knob, before, 0o644)
	if err := os.WriteFile(knob, []byte("1"), 0o644); err != nil {
		t.Fatalf("os.WriteFile(knob, []byte('1'), 0o644): %v", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*long)
	defer cancel()
	var all []chan error
	for i := range 3 {
		dev, u, _ := plug(t, loader(fmt.Sprintf("MEMORY%d", i)))
		p := open(t, u)
		want := pattern(3 << 20)
		done := make(chan error, 2)
		all = append(all, done)
		go func() {
			n, err := p.Write(ctx, want)
			if err == nil && n != len(want) {
				err = io.ErrShortWrite
			}
			done <- err
		}()
		go func() {
			got := make([]byte, len(want))
			_, err := io.ReadFull(taker{dev}, got)
			if err == nil && !bytes.Equal(got, want) {
				err = errors.New("other bytes came")
			}
			done <- err
		}()
	}
	for i, done := range all {
		for range 2 {
			if err := <-done; err != nil {
				t.Errorf("phone %d of three at once: %v", i, err)
			}
		}
	}
}

// TestInWireLies: descriptors that lie give a typed error or no device, texts are safe to print.
func TestInWireLies(t *testing.T) {
	onlyInside(t)
	g := loader("LIES\x1b[31m\n")
	g.Name = "Dun\x07lin"
	d := soft.NewDevice(g)
	unplug, err := (&soft.Kernel{}).Plug(d, false)
	if err != nil {
		t.Fatalf("(&soft.Kernel{}).Plug(d, false): %v", err)
	}
	u := shown(t, "LIES?[31m")
	if strings.ContainsAny(u.Name+u.Serial, "\x1b\x07\n") {
		t.Errorf("(&soft.Kernel{}).Plug(d, false): %q %q; unwanted: strings.ContainsAny(u.Name+u.Serial, "+
			"'\\x1b\\x07\\n')", u.Name, u.Serial)
	}
	unplug()
	// An interface without endpoints.
	g = loader("NOENDS")
	g.Functions[0].In, g.Functions[0].Out = 0, 0
	_, u, _ = plug(t, g)
	i, ok := u.Phone()
	if !ok {
		t.Fatalf("(&soft.Kernel{}).Plug(d, false): %+v; unwanted: !ok", u)
	}
	_, err = usb.System().Open(t.Context(), u, i)
	var rule *link.ProtocolError
	if !errors.As(err, &rule) {
		t.Errorf("an interface without endpoints: %v", err)
	}
}

// TestInWireWatch: what is plugged in is told of at once.
func TestInWireWatch(t *testing.T) {
	onlyInside(t)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	changed := usb.System().Watch(ctx)
	time.Sleep(time.Second)
	select {
	case <-changed: // of what earlier tests left
	default:
	}
	_, _, unplug := plug(t, loader("WATCH"))
	for _, what := range []string{"in", "out"} {
		select {
		case <-changed:
		case <-time.After(long):
			t.Errorf("plugged %s, and nobody told", what)
		}
		time.Sleep(time.Second)
		select {
		case <-changed:
		default:
		}
		unplug()
	}
}
