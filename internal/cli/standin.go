package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"jarlid/internal/bench"
	"jarlid/internal/core/card"
	"jarlid/internal/core/model"
	"jarlid/internal/core/spell"
	"jarlid/internal/files"
	"jarlid/internal/link/usb/soft"
	"jarlid/internal/phone/wire"
	"jarlid/internal/say"
	"jarlid/internal/standin"
	"jarlid/internal/standin/device"
	"jarlid/internal/task"
)

func (a *app) standinCommand() *cobra.Command {
	c := &cobra.Command{Use: "standin", Short: "Run phones made of software, to practise and test on",
		Args: noWords,
		RunE: wants("run, draft, press or fault")}
	var o device.Options
	var as string
	var onCable bool
	run := &cobra.Command{Use: "run MODEL", Short: "Run a stand-in until Ctrl-C",
		Args: words(1, 1, "which model: dunlin, for example, or the path of a model file"),
		Long: "Runs a phone made of software. It keeps its storage in the folder given with --at, listens " +
			"on the\n" +
			"loopback interface only, and is listed on the bench while it runs.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.standinRun(cmd.Context(), args[0], as, o, onCable)
		}}
	f := run.Flags()
	f.BoolVar(&onCable, "usb", false, "put it on a USB cable of this computer's kernel instead of the "+
		"network (root, and the module vhci_hcd)")
	f.StringVar(&o.Dir, "at", "", "folder for its storage and state (needed)")
	f.StringVar(&as, "as", "", "its name on the bench (default: the model's)")
	f.StringVar(&o.Fastboot, "fastboot", "", "address for fastboot, such as 127.0.0.1:5554 (default: a "+
		"free port)")
	f.StringVar(&o.Loader, "loader", "", "address for a maker's loader, on a model that has one (default: "+
		"a free port)")
	f.StringVar(&o.ADB, "adb", "", "address for ADB, such as 127.0.0.1:5555 (default: a free port)")
	f.BoolVar(&o.Locked, "locked", false, "a new one comes with its bootloader locked")
	f.StringVar(&o.Serial, "serial", "", "a new one's serial number (default: the model's), so that "+
		"several of one model can run")
	f.IntVar(&o.Battery, "battery", 0, "a new one's charge in percent")
	f.StringVar(&o.Mode, "mode", "", "come up in this mode: "+strings.Join(modeNames(), ", "))
	press := &cobra.Command{Use: "press NAME KEY...",
		Short: "Press keys, menu entries and answers at a stand-in, in order",
		Args:  words(2, -1, "which stand-in, then what to press"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.standinPress(cmd.Context(), args[0], args[1:])
		}}
	var fault device.Fault
	bad := &cobra.Command{Use: "fault NAME KIND", Short: "Make something go wrong at a stand-in",
		Args: words(2, 2, "which stand-in, then which fault"),
		RunE: func(cmd *cobra.Command, args []string) error {
			fault.Kind = args[1]
			return a.standinFault(cmd.Context(), args[0], fault)
		}}
	bad.Flags().Int64Var(&fault.After, "after", 0, "drop, battery, stall: once the computer has sent so "+
		"many bytes; refuse, drop-next: after so many commands")
	bad.Flags().Int64Var(&fault.For, "for", 1, "stall: seconds; refuse, drop-next, fail-at-end: how often; "+
		"line-...: how many messages")
	c.AddCommand(run, a.draftCommand("draft", "Write a model file that can be run as a stand-in, to "+
		"practise", true), press,
		bad)
	return c
}

// loadModel finds a model by name, or reads a model file by its path.
func (a *app) loadModel(b *bench.Bench, name string) (*model.Model, error) {
	if m := b.Models.Find(name); m != nil {
		return m, nil
	}
	if !strings.HasSuffix(name, ".yaml") && !strings.ContainsRune(name, filepath.Separator) {
		return nil, task.Usage("there is no model, and no model file, %q%s", name,
			spell.NoneOf(name, b.Models.Names()))
	}
	data, err := files.ReadText(files.Unquote(name), model.MaxFile)
	if err != nil {
		return nil, err
	}
	m, err := model.Parse([]byte(data))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return m, nil
}

// ready is told when a stand-in can be reached.
type ready struct {
	Name     string `json:"name"`
	Serial   string `json:"serial"`
	Fastboot string `json:"fastboot,omitempty"`
	ADB      string `json:"adb,omitempty"`
	Loader   string `json:"loader,omitempty"`
	Control  string `json:"control"`
}

// pressed is the result of standin press.
type pressed struct {
	Mode   string   `json:"mode"`
	Screen []string `json:"screen"`
}

func (a *app) standinRun(ctx context.Context, name, as string, o device.Options, onCable bool) error {
	if err := checkStandin(o); err != nil {
		return err
	}
	e, err := a.taskEnv(nil)
	if err != nil {
		return err
	}
	b := e.Bench
	o.Net = a.Net
	m, err := a.loadModel(b, name)
	if err != nil {
		return err
	}
	if err := a.plugStandin(m, &o, onCable); err != nil {
		return err
	}
	if as == "" {
		as = m.Name
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return err
	}
	o.Dir = dir
	entry := bench.Entry{Name: as, Model: m.Name, Standin: dir}
	o.Log = func(s string) { a.say("", say.Info, "%s", s) }
	o.Ready = func(at device.Addresses) {
		entry.Serial, entry.Control = at.Serial, at.Control
		shown := ready{Name: as, Serial: at.Serial, Control: at.Control}
		where := "on a USB cable of this computer's kernel"
		if !onCable {
			entry.At = at.At()
			first, speaks := &shown.Fastboot, "fastboot"
			if at.Loader != "" {
				first, speaks = &shown.Loader, "its loader"
			}
			*first, shown.ADB = entry.At[0], entry.At[1]
			where = fmt.Sprintf("%s at %s, ADB at %s", speaks, *first, shown.ADB)
		}
		if err := b.Register(entry); err != nil {
			a.say("", say.Warn, "it could not be listed on the bench: %v", err)
		}
		a.out.Event("ready", as, shown)
		a.say("", say.Info, "%s, serial number %s: %s", as, at.Serial, where)
		a.say("", say.Info, "its storage is in %s; Ctrl-C ends it and keeps everything", dir)
	}
	p, err := standin.New(m, o)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-a.stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	err = p.Run(ctx)
	if uerr := b.Unregister(entry); err == nil {
		err = uerr
	}
	if err == nil {
		a.say("", say.Done, "%s is switched off; its state is kept in %s", as, dir)
	}
	return err
}

// checkStandin checks the options of a stand-in.
func checkStandin(o device.Options) error {
	if o.Dir == "" {
		return task.Usage("say where its storage lies: --at DIR")
	}
	if o.Battery < 0 || o.Battery > 100 {
		return task.Usage("--battery is a percentage from 1 to 100, not %d", o.Battery)
	}
	if o.Mode != string(card.None) && !slices.Contains(modeNames(), o.Mode) {
		return task.Usage("%q is not a mode%s", o.Mode, spell.NoneOf(o.Mode, modeNames()))
	}
	return nil
}

// plugStandin checks the addresses of a stand-in, and gives it its cable.
func (a *app) plugStandin(m *model.Model, o *device.Options, onCable bool) error {
	switch {
	case m.HasLoader() && o.Fastboot != "":
		return task.Usage("%s has its maker's loader and no fastboot: write --loader %s", m.Name, o.Fastboot)
	case !m.HasLoader() && o.Loader != "":
		return task.Usage("%s has fastboot and no maker's loader: write --fastboot %s", m.Name, o.Loader)
	}
	if onCable {
		if o.Fastboot != "" || o.Loader != "" || o.ADB != "" {
			return task.Usage("a stand-in is on a cable (--usb) or on the network (--fastboot, --loader, " +
				"--adb), not on both")
		}
		if o.Cable = a.Plug; o.Cable == nil {
			kernel := &soft.Kernel{}
			if err := kernel.Ready(); err != nil {
				return err
			}
			o.Cable = kernel
		}
	}
	return nil
}

func (a *app) standinPress(ctx context.Context, name string, keys []string) error {
	control, err := a.control(name)
	if err != nil {
		return err
	}
	reply, err := standin.Press(ctx, a.Net, control, keys)
	if err != nil {
		return err
	}
	a.result = pressed{reply.Mode, reply.Screen}
	for _, line := range reply.Screen[max(0, len(reply.Screen)-3):] {
		a.say("", say.Info, "screen: %s", line)
	}
	a.say("", say.Done, "pressed %s", strings.Join(keys, ", then "))
	return nil
}

func (a *app) standinFault(ctx context.Context, name string, f device.Fault) error {
	control, err := a.control(name)
	if err != nil {
		return err
	}
	if f.After < 0 || f.For < 0 {
		return task.Usage("--after and --for take numbers from 0 on")
	}
	if err := standin.OrderFault(ctx, a.Net, control, f); err != nil {
		return err
	}
	if f.Kind == "clear" {
		a.say("", say.Done, "nothing more goes wrong at %s", name)
		return nil
	}
	a.say("", say.Done, "at %s this goes wrong next: %s", name, f.Kind)
	return nil
}

// control gives the address a running stand-in takes orders at.
func (a *app) control(name string) (string, error) {
	e, err := a.taskEnv(nil)
	if err != nil {
		return "", err
	}
	list, err := e.Bench.Entries()
	if err != nil {
		return "", err
	}
	for _, e := range list {
		if e.Name == name && running(e) {
			return e.Control, nil
		}
	}
	return "", &wire.NotHereError{Text: fmt.Sprintf("no stand-in called %q is running%s", name,
		spell.DidYouMean(name, namesOf(list, running)))}
}

// modeNames are the modes a phone can be in.
func modeNames() (names []string) {
	for _, m := range card.Modes {
		names = append(names, string(m))
	}
	return names
}

// running reports whether an entry of the bench is a stand-in that runs.
func running(e bench.Entry) bool { return e.Control != "" }

// faultRows say what each fault is, for the help.
func faultRows() (rows [][2]string) {
	for _, k := range device.Faults {
		means := k.Means
		if k.Cable {
			means += " (with --usb)"
		}
		rows = append(rows, [2]string{k.Name, means})
	}
	return rows
}
