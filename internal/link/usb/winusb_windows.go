package usb

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"jarlid/internal/link"
)

// System gives this computer's cables: devices as the system lists them, WinUSB to talk to them.
func System() Bus { return &winBus{seen: map[string]int{}} }

var (
	winusb   = windows.NewLazySystemDLL("winusb.dll")
	setupapi = windows.NewLazySystemDLL("setupapi.dll")
	cfgmgr   = windows.NewLazySystemDLL("cfgmgr32.dll")

	usbInitialize = winusb.NewProc("WinUsb_Initialize")
	usbFree       = winusb.NewProc("WinUsb_Free")
	usbSettings   = winusb.NewProc("WinUsb_QueryInterfaceSettings")
	usbPipe       = winusb.NewProc("WinUsb_QueryPipe")
	usbSetPolicy  = winusb.NewProc("WinUsb_SetPipePolicy")
	usbGetPolicy  = winusb.NewProc("WinUsb_GetPipePolicy")
	usbRead       = winusb.NewProc("WinUsb_ReadPipe")
	usbWrite      = winusb.NewProc("WinUsb_WritePipe")
	usbResult     = winusb.NewProc("WinUsb_GetOverlappedResult")
	usbAbort      = winusb.NewProc("WinUsb_AbortPipe")
	usbReset      = winusb.NewProc("WinUsb_ResetPipe")

	setupInterfaces = setupapi.NewProc("SetupDiEnumDeviceInterfaces")
	setupDetail     = setupapi.NewProc("SetupDiGetDeviceInterfaceDetailW")
	cmParent        = cfgmgr.NewProc("CM_Get_Parent")
	cmID            = cfgmgr.NewProc("CM_Get_Device_IDW")
	cmNotify        = cfgmgr.NewProc("CM_Register_Notification")
	cmForget        = cfgmgr.NewProc("CM_Unregister_Notification")
)

// Policies of a pipe, and the kind of a bulk one (winusb.h, winusbio.h, usbspec.h).
const (
	policyTimeout = 0x03 // PIPE_TRANSFER_TIMEOUT, in milliseconds; 0 waits
	policyMost    = 0x08 // MAXIMUM_TRANSFER_SIZE
	pipeBulk      = 2    // UsbdPipeTypeBulk
	// defaultMost is what a pipe takes that does not tell: what every host controller's driver does.
	defaultMost = 64 << 10
	// problemNoDriver is the device manager's code 28 (CM_PROB_FAILED_INSTALL).
	problemNoDriver = 28
)

// winBus is Windows' USB.
type winBus struct {
	mu   sync.Mutex
	seen map[string]int // number of each device, by its instance
	last int
	now  []string // instances of the last look
}

// List walks the system's list of USB devices. A phone is known by its interface's class, whatever
// driver it has, and where it has none.
func (b *winBus) List() ([]Device, error) {
	nodes, err := nodes()
	if err != nil {
		return nil, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	var list []Device
	var now []string
	for _, n := range nodes {
		d, ok := n.Device()
		if !ok {
			continue
		}
		now = append(now, n.Instance)
		if !slices.Contains(b.now, n.Instance) { // plugged in again, or for the first time
			b.last++
			b.seen[n.Instance] = b.last
		}
		d.Number = b.seen[n.Instance]
		d.Instance = n.Instance
		d.NoDriver = n.Service == "" && (n.Problem == problemNoDriver || n.Problem == 0)
		for _, i := range d.Interfaces {
			d.NoDriver = d.NoDriver && (i.Fastboot() || i.ADB())
		}
		if at := slices.IndexFunc(list, func(o Device) bool {
			return o.Port == d.Port
		}); at >= 0 && len(d.Interfaces) > 0 {
			list[at].Interfaces = append(list[at].Interfaces, d.Interfaces...)
			continue
		}
		list = append(list, d)
	}
	b.now = now
	slices.SortFunc(list, func(x, y Device) int { return strings.Compare(x.Port, y.Port) })
	return list, nil
}

// nodes reads the system's list of devices on USB.
func nodes() ([]Node, error) {
	set, err := windows.SetupDiGetClassDevsEx(nil, "USB", 0, windows.DIGCF_ALLCLASSES|windows.DIGCF_PRESENT,
		0, "")
	if err != nil {
		return nil, err
	}
	defer set.Close()
	var list []Node
	for k := 0; ; k++ {
		info, err := set.EnumDeviceInfo(k)
		if err != nil {
			if errors.Is(err, windows.ERROR_NO_MORE_ITEMS) {
				return list, nil
			}
			return list, err
		}
		id, err := set.DeviceInstanceID(info)
		if err != nil {
			continue // it went meanwhile
		}
		n := Node{Instance: id, Service: text(set, info, windows.SPDRP_SERVICE),
			Maker: text(set, info, windows.SPDRP_MFG), Name: text(set, info, windows.SPDRP_DEVICEDESC)}
		n.Compatible, n.Location = texts(set, info, windows.SPDRP_COMPATIBLEIDS),
			texts(set, info, windows.SPDRP_LOCATION_PATHS)
		var status, problem uint32
		if windows.CM_Get_DevNode_Status(&status, &problem, info.DevInst, 0) == nil {
			n.Problem = int(problem)
		}
		n.Parent = parentOf(uint32(info.DevInst))
		list = append(list, n)
	}
}

func text(set windows.DevInfo, info *windows.DevInfoData, p windows.SPDRP) string {
	v, err := set.DeviceRegistryProperty(info, p)
	s, _ := v.(string)
	if err != nil {
		return ""
	}
	return s
}

func texts(set windows.DevInfo, info *windows.DevInfoData, p windows.SPDRP) []string {
	v, err := set.DeviceRegistryProperty(info, p)
	if err != nil {
		return nil
	}
	list, _ := v.([]string)
	return list
}

// parentOf gives the instance a node hangs on.
func parentOf(inst uint32) string {
	if cmParent.Find() != nil || cmID.Find() != nil {
		return ""
	}
	var up uint32
	if r, _, _ := cmParent.Call(uintptr(unsafe.Pointer(&up)), uintptr(inst), 0); r != 0 {
		return ""
	}
	var name [200]uint16 // MAX_DEVICE_ID_LEN (cfgmgr32.h)
	if r, _, _ := cmID.Call(uintptr(up), uintptr(unsafe.Pointer(&name[0])), uintptr(len(name)), 0); r != 0 {
		return ""
	}
	return windows.UTF16ToString(name[:])
}

// lookEvery is how often devices are looked for where the system reports of none.
const lookEvery = 500 * time.Millisecond

// Watch takes the system's notifications, and looks by itself besides: not every driver sends them.
func (b *winBus) Watch(ctx context.Context) <-chan struct{} {
	w := make(chan struct{}, 1)
	tell := func() {
		select {
		case w <- struct{}{}:
		default:
		}
	}
	forget := notified(tell)
	go func() {
		defer forget()
		before := ""
		for {
			if list, err := nodes(); err == nil {
				var all []string
				for _, n := range list {
					all = append(all, n.Instance+" "+n.Service)
				}
				if now := strings.Join(all, "\n"); now != before {
					before = now
					tell()
				}
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(lookEvery):
			}
		}
	}()
	return w
}

// notified has do called when devices come and go (CM_Register_Notification, of Windows 8 on).
func notified(do func()) (forget func()) {
	if cmNotify.Find() != nil || cmForget.Find() != nil {
		return func() {}
	}
	// CM_NOTIFY_FILTER of all device interfaces: size, flags, type, reserved, and 400 bytes.
	filter := struct {
		size, flags, kind, reserved uint32
		_                           [400]byte
	}{flags: 1 /* ALL_INTERFACE_CLASSES */}
	filter.size = uint32(unsafe.Sizeof(filter))
	callback := windows.NewCallback(func(_, _, _, _, _ uintptr) uintptr { do(); return 0 })
	var context uintptr
	if r, _, _ := cmNotify.Call(uintptr(unsafe.Pointer(&filter)), 0, callback,
		uintptr(unsafe.Pointer(&context))); r != 0 {
		return func() {}
	}
	return func() { _, _, _ = cmForget.Call(context) }
}

// Open opens an interface by the identifiers its own node names.
func (b *winBus) Open(ctx context.Context, d Device, i Interface) (Pipe, error) {
	instance := d.Instance
	if list, err := nodes(); err == nil { // of a device with several, the node of that interface
		for _, n := range list {
			if o, ok := n.Device(); ok && o.Port == d.Port && len(o.Interfaces) > 0 &&
				o.Interfaces[0].Number == i.Number && o.Interfaces[0].Class == i.Class {
				instance = n.Instance
			}
		}
	}
	path, err := interfacePath(instance)
	if err != nil {
		return nil, err
	}
	if path == "" {
		return nil, &NoDriverError{Name: d.Name}
	}
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return nil, err
	}
	file, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE, windows.FILE_SHARE_READ|
		windows.FILE_SHARE_WRITE, nil, windows.OPEN_EXISTING, windows.FILE_ATTRIBUTE_NORMAL|
		windows.FILE_FLAG_OVERLAPPED, 0)
	switch {
	case errors.Is(err, windows.ERROR_ACCESS_DENIED), errors.Is(err, windows.ERROR_SHARING_VIOLATION),
		errors.Is(err, windows.ERROR_PIPE_BUSY):
		return nil, &HeldError{Program: "another program"}
	case err != nil:
		return nil, ErrGone
	}
	h := &winHandle{file: file, most: map[byte]int{}}
	if r, _, e := usbInitialize.Call(uintptr(file), uintptr(unsafe.Pointer(&h.usb))); r == 0 {
		windows.CloseHandle(file)
		if errors.Is(e, windows.ERROR_NOT_ENOUGH_MEMORY) || errors.Is(e, windows.ERROR_INVALID_FUNCTION) {
			return nil, &NoDriverError{Name: d.Name}
		}
		return nil, winMapped(e)
	}
	own, err := h.settings()
	if err == nil && (own.In == 0 || own.Out == 0) {
		err = &link.ProtocolError{Protocol: "USB",
			What: "announces no pair of bulk endpoints on its interface"}
	}
	if err != nil {
		h.Close()
		return nil, err
	}
	return OverHandle(h, own), ctx.Err()
}

// interfacePath gives the path of a node's own interface, by the identifiers it was given when its
// driver was set up; "" where it has none.
func interfacePath(instance string) (string, error) {
	var guids []string
	k, err := registry.OpenKey(registry.LOCAL_MACHINE, `SYSTEM\CurrentControlSet\Enum\`+instance+
		`\Device Parameters`, registry.QUERY_VALUE)
	if err == nil {
		defer k.Close()
		guids, _, _ = k.GetStringsValue("DeviceInterfaceGUIDs")
		if one, _, err := k.GetStringValue("DeviceInterfaceGUID"); err == nil {
			guids = append(guids, one)
		}
	}
	for _, text := range guids {
		guid, err := windows.GUIDFromString(text)
		if err != nil {
			continue
		}
		if path := pathOf(&guid, instance); path != "" {
			return path, nil
		}
	}
	return "", nil
}

// pathOf gives the path of an interface of a kind that a device has.
func pathOf(guid *windows.GUID, instance string) string {
	set, err := windows.SetupDiGetClassDevsEx(guid, instance, 0, windows.DIGCF_DEVICEINTERFACE|
		windows.DIGCF_PRESENT, 0, "")
	if err != nil {
		return ""
	}
	defer set.Close()
	type interfaceData struct { // SP_DEVICE_INTERFACE_DATA
		size     uint32
		guid     windows.GUID
		flags    uint32
		reserved uintptr
	}
	x := interfaceData{}
	x.size = uint32(unsafe.Sizeof(x))
	if r, _, _ := setupInterfaces.Call(uintptr(set), 0, uintptr(unsafe.Pointer(guid)), 0,
		uintptr(unsafe.Pointer(&x))); r == 0 {
		return ""
	}
	var need uint32
	// fails with how much it needs
	_, _, _ = setupDetail.Call(uintptr(set), uintptr(unsafe.Pointer(&x)), 0, 0,
		uintptr(unsafe.Pointer(&need)), 0)
	if need < 6 || need > 64<<10 {
		return ""
	}
	buf := make([]uint16, need/2+4)
	// SP_DEVICE_INTERFACE_DETAIL_DATA_W: its size, which counts the padding of 64-bit systems, and the path.
	*(*uint32)(unsafe.Pointer(&buf[0])) = 8
	if unsafe.Sizeof(uintptr(0)) == 4 {
		*(*uint32)(unsafe.Pointer(&buf[0])) = 6
	}
	if r, _, _ := setupDetail.Call(uintptr(set), uintptr(unsafe.Pointer(&x)),
		uintptr(unsafe.Pointer(&buf[0])), uintptr(need), 0, 0); r == 0 {
		return ""
	}
	return windows.UTF16ToString(buf[2:])
}

// winHandle is an interface that is open.
type winHandle struct {
	file windows.Handle
	usb  uintptr
	most map[byte]int
}

// settings reads the interface's descriptor and its bulk pipes (USB_INTERFACE_DESCRIPTOR,
// WINUSB_PIPE_INFORMATION).
func (h *winHandle) settings() (Interface, error) {
	var d [9]byte
	if r, _, e := usbSettings.Call(h.usb, 0, uintptr(unsafe.Pointer(&d))); r == 0 {
		return Interface{}, winMapped(e)
	}
	i := Interface{Number: int(d[2]), Class: d[5], SubClass: d[6], Protocol: d[7]}
	type info struct {
		kind     int32
		id       byte
		packet   uint16
		interval byte
	}
	for k := range uintptr(d[4]) {
		var p info
		if r, _, _ := usbPipe.Call(h.usb, 0, k, uintptr(unsafe.Pointer(&p))); r == 0 {
			break
		}
		if p.kind != pipeBulk || p.packet == 0 {
			continue
		}
		switch {
		case p.id&endpointIn != 0 && i.In == 0:
			i.In = p.id
		case p.id&endpointIn == 0 && i.Out == 0:
			i.Out = p.id
		default:
			continue
		}
		i.Packet = int(p.packet)
		never, most, n := uint32(0), uint32(0), uint32(4)
		// it is the default
		_, _, _ = usbSetPolicy.Call(h.usb, uintptr(p.id), policyTimeout, 4, uintptr(unsafe.Pointer(&never)))
		h.most[p.id] = defaultMost
		if r, _, _ := usbGetPolicy.Call(h.usb, uintptr(p.id), policyMost, uintptr(unsafe.Pointer(&n)),
			uintptr(unsafe.Pointer(&most))); r != 0 && most > 0 {
			h.most[p.id] = int(min(most, 1<<30))
		}
	}
	return i, nil
}

func (h *winHandle) Most(pipe byte) int { return h.most[pipe] }

// winTransfer is an overlapped one. What the system writes to stays where it is until it has ended:
// Go moves nothing of the heap, and this keeps hold of it.
type winTransfer struct {
	h    *winHandle
	o    *windows.Overlapped
	b    []byte
	done chan struct{}
	n    int
	err  error
}

func (h *winHandle) Start(pipe byte, b []byte) (Transfer, error) {
	event, err := windows.CreateEvent(nil, 1, 0, nil)
	if err != nil {
		return nil, err
	}
	t := &winTransfer{h: h, o: &windows.Overlapped{HEvent: event}, b: b, done: make(chan struct{})}
	call := usbWrite
	if pipe&endpointIn != 0 {
		call = usbRead
	}
	at := unsafe.Pointer(unsafe.SliceData(b))
	if len(b) == 0 {
		at = nil
	}
	r, _, e := call.Call(h.usb, uintptr(pipe), uintptr(at), uintptr(len(b)), 0, uintptr(unsafe.Pointer(t.o)))
	if r == 0 && !errors.Is(e, windows.ERROR_IO_PENDING) {
		windows.CloseHandle(event)
		return nil, winMapped(e)
	}
	go t.wait()
	return t, nil
}

func (t *winTransfer) wait() {
	defer close(t.done)
	defer windows.CloseHandle(t.o.HEvent)
	var n uint32
	r, _, e := usbResult.Call(t.h.usb, uintptr(unsafe.Pointer(t.o)), uintptr(unsafe.Pointer(&n)), 1)
	t.n = int(n)
	if r == 0 {
		t.err = winMapped(e)
	}
}

func (t *winTransfer) Done() <-chan struct{} { return t.done }
func (t *winTransfer) Result() (int, error)  { return t.n, t.err }

func (h *winHandle) Abort(pipe byte) error {
	if r, _, e := usbAbort.Call(h.usb, uintptr(pipe)); r == 0 {
		return winMapped(e)
	}
	return nil
}

func (h *winHandle) Reset(pipe byte) error {
	if r, _, e := usbReset.Call(h.usb, uintptr(pipe)); r == 0 {
		return winMapped(e)
	}
	return nil
}

func (h *winHandle) Close() error {
	_, _, _ = usbFree.Call(h.usb)
	return windows.CloseHandle(h.file)
}

// winMapped gives the system's errors ours (System Error Codes; WinUSB tells of a halted pipe and of
// some unplugs by the same one, and clearing the halt tells them apart).
func winMapped(err error) error {
	switch {
	case errors.Is(err, windows.ERROR_OPERATION_ABORTED):
		return ErrAborted
	case errors.Is(err, windows.ERROR_GEN_FAILURE):
		return ErrStalled
	case errors.Is(err, windows.ERROR_BAD_COMMAND), errors.Is(err, windows.ERROR_DEVICE_NOT_CONNECTED),
		errors.Is(err, windows.ERROR_NO_SUCH_DEVICE), errors.Is(err, windows.ERROR_FILE_NOT_FOUND),
		errors.Is(err, windows.ERROR_INVALID_HANDLE), errors.Is(err, windows.ERROR_DEVICE_REMOVED),
		errors.Is(err, windows.ERROR_BROKEN_PIPE), errors.Is(err, windows.ERROR_PIPE_NOT_CONNECTED),
		errors.Is(err, windows.ERROR_NO_DATA), errors.Is(err, windows.ERROR_BAD_PIPE):
		return ErrGone
	}
	return err
}
