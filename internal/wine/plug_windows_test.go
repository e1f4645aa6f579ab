package wine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"jarlid/internal/link/usb"
	"jarlid/internal/link/usb/soft"
)

// identifier is that of the interface of the test's phones.
const identifier = "{5b1f0c2e-7a43-4d19-9c21-3e55801da64f}"

const (
	enum    = `SYSTEM\CurrentControlSet\Enum\`
	classes = `SYSTEM\CurrentControlSet\Control\DeviceClasses\` + identifier + `\`
)

// plug plugs devices into Windows' list of devices: the registry has them, and a named pipe stands for
// their cable.
type plug struct {
	bus soft.Bus
	// undriven has devices without a driver.
	undriven bool
	mu       sync.Mutex
	last     int
}

// Plug implements soft.Plug.
func (p *plug) Plug(d *soft.Device, other bool) (func(), error) {
	out, err := p.bus.Plug(d, other)
	if err != nil {
		return nil, err
	}
	list, err := p.bus.List()
	if err != nil || len(list) == 0 {
		out()
		return nil, errors.Join(err, errors.New("it is not on the bus"))
	}
	u := list[0]
	i, ok := u.Phone()
	if !ok {
		return out, nil // files only: nothing a program could talk to
	}
	cable, err := p.bus.Open(context.Background(), u, i)
	if err != nil {
		out()
		return nil, err
	}
	p.mu.Lock()
	p.last++
	name := fmt.Sprintf("jarlid-%d-%d", windows.GetCurrentProcessId(), p.last)
	p.mu.Unlock()
	instance := fmt.Sprintf(`USB\VID_%04X&PID_%04X\%s`, 0x1209, i.Protocol, u.Serial)
	l := &line{cable: cable, protocol: i.Protocol, number: byte(i.Number)}
	if err := l.serve(name); err != nil {
		out()
		return nil, err
	}
	gone, err := p.register(instance, name, u, i)
	if err != nil {
		out()
		return nil, err
	}
	return func() { gone(); out(); l.close(); cable.Close() }, nil
}

// register puts a device into the list, and ties its path to a named pipe.
func (p *plug) register(instance, pipe string, u usb.Device, i usb.Interface) (gone func(), err error) {
	set := func(path string, values map[string]any) error {
		k, _, err := registry.CreateKey(registry.LOCAL_MACHINE, path, registry.ALL_ACCESS)
		if err != nil {
			return err
		}
		defer k.Close()
		for name, v := range values {
			switch v := v.(type) {
			case string:
				err = k.SetStringValue(name, v)
			case []string:
				err = k.SetStringsValue(name, v)
			case int:
				err = k.SetDWordValue(name, uint32(v))
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	node := map[string]any{"DeviceDesc": u.Name, "Mfg": u.Maker,
		"ClassGUID": "{88bae032-5a81-49f0-bc3d-a4ff138216d6}", "Class": "USBDevice",
		"CompatibleIDs": []string{fmt.Sprintf(`USB\Class_%02x&SubClass_%02x&Prot_%02x`, i.Class, i.SubClass,
			i.Protocol), `USB\Class_ff`}}
	if !p.undriven {
		node["Service"] = "WINUSB"
	}
	path := `##?#` + strings.ReplaceAll(instance, `\`, `#`) + `#` + identifier
	err = errors.Join(set(enum+instance, node), set(enum+instance+`\Device Parameters`,
		map[string]any{"DeviceInterfaceGUIDs": []string{identifier}}))
	if !p.undriven {
		err = errors.Join(err, set(classes+path, map[string]any{"DeviceInstance": instance}),
			set(classes+path+`\#`, map[string]any{"SymbolicLink": `\\?\` + path[4:]}),
			set(classes+path+`\#\Control`, map[string]any{"Linked": 1}))
	}
	if err != nil {
		return nil, err
	}
	from, _ := windows.NewNTUnicodeString(`\??\` + strings.ToLower(path[4:]))
	to, _ := windows.NewNTUnicodeString(`\Device\NamedPipe\` + pipe)
	at := windows.OBJECT_ATTRIBUTES{ObjectName: from, Attributes: windows.OBJ_CASE_INSENSITIVE}
	at.Length = uint32(unsafe.Sizeof(at))
	var link windows.Handle
	const allAccess = 0xF0001 // SYMBOLIC_LINK_ALL_ACCESS
	r, _, _ := windows.NewLazySystemDLL("ntdll.dll").NewProc("NtCreateSymbolicLinkObject").Call(
		uintptr(unsafe.Pointer(&link)), allAccess, uintptr(unsafe.Pointer(&at)), uintptr(unsafe.Pointer(to)))
	if r != 0 {
		return nil, fmt.Errorf("no link: %#x", uint32(r))
	}
	return func() {
		windows.CloseHandle(link)
		for _, path := range []string{classes + path + `\#\Control`, classes + path + `\#`, classes + path,
			enum + instance + `\Device Parameters`, enum + instance} {
			_ = registry.DeleteKey(registry.LOCAL_MACHINE, path)
		}
	}, nil
}

// line is a named pipe with a device's cable behind it. One program at a time has it.
type line struct {
	cable            usb.Pipe
	protocol, number byte
	h                windows.Handle
	stop             windows.Handle
	all              sync.WaitGroup
	rest             []byte // came for a program that is gone
}

func (l *line) serve(name string) error {
	path, err := windows.UTF16PtrFromString(`\\.\pipe\` + name)
	if err != nil {
		return err
	}
	const size = 2 << 20
	l.h, err = windows.CreateNamedPipe(path, windows.PIPE_ACCESS_DUPLEX|windows.FILE_FLAG_OVERLAPPED,
		windows.PIPE_TYPE_MESSAGE|windows.PIPE_READMODE_MESSAGE, 1, size, size, 0, nil)
	if err != nil {
		return err
	}
	if l.stop, err = windows.CreateEvent(nil, 1, 0, nil); err != nil {
		return err
	}
	l.all.Go(func() {
		for l.wait(nil, func(o *windows.Overlapped) error {
			return windows.ConnectNamedPipe(l.h, o)
		}) == nil || !l.stopped() {
			l.carry()
			_ = windows.DisconnectNamedPipe(l.h)
			if l.stopped() {
				return
			}
		}
	})
	return nil
}

func (l *line) stopped() bool {
	e, _ := windows.WaitForSingleObject(l.stop, 0)
	return e == windows.WAIT_OBJECT_0
}

// wait does an overlapped call, until it has ended or the line is closed.
func (l *line) wait(n *uint32, call func(*windows.Overlapped) error) error {
	event, err := windows.CreateEvent(nil, 1, 0, nil)
	if err != nil {
		return err
	}
	defer windows.CloseHandle(event)
	o := &windows.Overlapped{HEvent: event}
	err = call(o)
	switch {
	case err == nil, errors.Is(err, windows.ERROR_PIPE_CONNECTED):
		if n == nil {
			return nil
		}
	case !errors.Is(err, windows.ERROR_IO_PENDING):
		return err
	}
	if i, _ := windows.WaitForMultipleObjects([]windows.Handle{event, l.stop}, false,
		windows.INFINITE); i == windows.WAIT_OBJECT_0+1 {
		_ = windows.CancelIoEx(l.h, o)
	}
	var got uint32
	err = windows.GetOverlappedResult(l.h, o, &got, true)
	if n != nil {
		*n = got
	}
	return err
}

// carry moves packets between the program that came and the device, until it has gone.
func (l *line) carry() {
	packet := l.cable.Packet()
	send := func(b []byte) error {
		var n uint32
		return l.wait(&n, func(o *windows.Overlapped) error { return windows.WriteFile(l.h, b, nil, o) })
	}
	if send([]byte{l.protocol, l.number, byte(packet), byte(packet >> 8)}) != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var back sync.WaitGroup
	back.Go(func() {
		for {
			b := l.rest
			if l.rest = nil; b == nil {
				b = make([]byte, packet)
				n, err := l.cable.Read(ctx, b)
				if err != nil {
					return
				}
				b = b[:n]
			}
			if send(b) != nil {
				l.rest = b
				return
			}
		}
	})
	buf := make([]byte, 2<<20)
	for {
		var n uint32
		if l.wait(&n, func(o *windows.Overlapped) error {
			return windows.ReadFile(l.h, buf, nil, o)
		}) != nil {
			break
		}
		if _, err := l.cable.Write(ctx, buf[:n]); err != nil {
			break
		}
	}
	cancel()
	back.Wait()
}

func (l *line) close() {
	_ = windows.SetEvent(l.stop)
	l.all.Wait()
	windows.CloseHandle(l.h)
	windows.CloseHandle(l.stop)
}
