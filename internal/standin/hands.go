package standin

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/spell"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/recovery"
	"jarlid/internal/standin/scenario"
	"jarlid/internal/standin/wire"
)

// PressRequest is the owner's hands: keys, menu entries or answers in order.
type PressRequest struct {
	Press []string `json:"press"`
}

// PressReply is what the phone shows afterwards.
type PressReply struct {
	Mode   string   `json:"mode"`
	Screen []string `json:"screen"`
	// Choices are what can be pressed now.
	Choices []string `json:"choices"`
	Error   string   `json:"error,omitempty"`
}

// controlToken is what the hands' address ends in: every user of the computer reaches the port,
// and only who can read the home folder knows this.
func controlToken() string { return rand.Text() }

// serveControl takes the owner's hands over HTTP on the loopback interface, below the token.
func (p *Phone) serveControl(l net.Listener, token string) (stop func()) {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /"+token+"/press", func(w http.ResponseWriter, r *http.Request) {
		var q PressRequest
		var reply PressReply
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&q); err != nil {
			reply.Error = err.Error()
		}
		for _, what := range q.Press {
			if err := p.press(what); err != nil {
				reply.Error = err.Error()
				break
			}
		}
		p.Mu.Lock()
		reply.Mode, reply.Choices = device.ModeWord(p.State.Mode), p.choices()
		reply.Screen = slices.Clone(p.Screen[max(0, len(p.Screen)-8):])
		p.Mu.Unlock()
		_ = json.NewEncoder(w).Encode(reply)
	})
	mux.HandleFunc("POST /"+token+"/fault", func(w http.ResponseWriter, r *http.Request) {
		var f device.Fault
		var reply PressReply
		err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&f)
		if err == nil {
			err = p.Order(f)
		}
		if err != nil {
			reply.Error = err.Error()
		}
		_ = json.NewEncoder(w).Encode(reply)
	})
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = srv.Serve(l) }() // it ends with an error, when it is closed
	return func() { srv.Close() }
}

// Press sends the owner's hands to a running stand-in.
func Press(ctx context.Context, n device.Net, control string, keys []string) (PressReply, error) {
	return order(ctx, n, control, "press", PressRequest{Press: keys})
}

// OrderFault makes something go wrong on a running stand-in.
func OrderFault(ctx context.Context, n device.Net, control string, f device.Fault) error {
	_, err := order(ctx, n, control, "fault", f)
	return err
}

func order(ctx context.Context, n device.Net, control, what string, wish any) (PressReply, error) {
	var reply PressReply
	body, err := json.Marshal(wish)
	if err != nil {
		return reply, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+control+"/"+what,
		strings.NewReader(string(body)))
	if err != nil {
		return reply, err
	}
	if n == nil {
		n = &device.Loopback{}
	}
	client := &http.Client{Transport: &http.Transport{DialContext: n.DialContext, DisableKeepAlives: true}}
	defer client.CloseIdleConnections()
	resp, err := client.Do(req)
	if err != nil {
		return reply, fmt.Errorf("the stand-in does not answer: %w", err)
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(&reply); err != nil {
		return reply, fmt.Errorf("the stand-in's answer can't be read: %w", err)
	}
	if reply.Error != "" {
		return reply, fmt.Errorf("%s", reply.Error)
	}
	return reply, nil
}

// Keys that work whatever the phone is doing, and the menus.
const (
	keyPower    = "power"
	keyDown     = "volume-down+power"
	keyUp       = "volume-up+power"
	keyLongHold = "power-long"
	keyCharge   = "charge" // an hour at the charger
)

var (
	bootloaderMenu = []string{"start", "recovery", "restart bootloader", "power off"}
	fastbootdMenu  = []string{"recovery", "restart", "restart bootloader", "power off"}
	recoveryMenu   = map[string][]string{
		"":         {"packages", "erase", "leave"},
		"packages": {"from the computer", "from the phone", "from the card", "back"},
		"erase":    {"all data", "caches", "apps", "storage", "system partition", "back"},
		"leave": {"to the system", "to the recovery", "to the bootloader", "to userspace fastboot",
			"switch off", "back"},
	}
	systemMenu = []string{"finish welcome", "debugging on", "debugging off", "unlocking on", "unlocking off",
		"allow", "deny", "restart", "power off",
		"sign in", "sign out", "lock on", "lock off"}
)

// press is one key, menu entry or answer.
func (p *Phone) press(what string) error {
	what = strings.ToLower(strings.TrimSpace(what))
	if p.answer(what) {
		return nil
	}
	if p.Spec.Loader != nil {
		if done, err := p.loaderKey(what); done {
			return err
		}
	}
	p.Mu.Lock()
	mode, menu := p.State.Mode, p.Menu
	p.Mu.Unlock()
	if done, err := p.key(mode, what); done {
		return err
	}
	switch mode {
	case card.Bootloader:
		if slices.Contains(bootloaderMenu, what) {
			return p.bootloaderChoice(what)
		}
	case card.Fastbootd:
		if what == "recovery" {
			p.Move(string(card.Recovery), 0)
			return nil
		}
		if slices.Contains(fastbootdMenu, what) {
			return p.bootloaderChoice(strings.Replace(what, "restart", "start",
				1-strings.Count(what, "bootloader")))
		}
	case card.Recovery:
		if slices.Contains(recoveryMenu[menu], what) {
			return p.recoveryChoice(menu, what)
		}
	case card.Sideload:
		if what == "cancel" {
			p.Move(string(card.Recovery), 0)
			return nil
		}
	case card.System:
		if slices.Contains(systemMenu, what) {
			return p.systemChoice(what)
		}
	}
	p.Mu.Lock()
	choices := p.choices()
	p.Mu.Unlock()
	return fmt.Errorf("in this mode (%s) there is no %q on the phone%s", device.ModeWord(mode), what,
		spell.NoneOf(what, choices))
}

// key presses a key that works in every mode, or does something to the cable; done is false for
// another word.
func (p *Phone) key(mode card.Mode, what string) (done bool, err error) {
	delay := time.Duration(p.Spec.Delays.Restart)
	if p.Spec.Loader != nil && (what == keyDown || what == keyUp) {
		return true, errors.New("nothing happens: this phone has a side key, and it is pressed too")
	}
	switch what {
	case keyDown:
		p.Move(string(card.Bootloader), delay)
		return true, nil
	case keyUp:
		if err := p.Message(bcb.Message{Command: bcb.CommandRecovery}); err != nil {
			return true, err
		}
		p.Restart()
		return true, nil
	case keyLongHold:
		p.Move("off", 0)
		return true, nil
	case keyCharge:
		p.Mu.Lock()
		defer p.Mu.Unlock()
		p.State.Percent = 100
		p.Save()
		return true, nil
	case keyPower:
		if mode == card.None {
			p.Restart()
		}
		return true, nil
	}
	if p.Options.Cable != nil && slices.Contains(wire.CableKeys, what) {
		p.Handle(what)
		return true, nil
	}
	return false, nil
}

// choices are the keys there are, and the entries of the menu that is shown. p.Mu is held.
func (p *Phone) choices() []string {
	var list []string
	switch p.State.Mode {
	case card.Bootloader:
		list = bootloaderMenu
	case card.Fastbootd:
		list = fastbootdMenu
	case card.Recovery:
		list = recoveryMenu[p.Menu]
	case card.Sideload:
		list = []string{"cancel"}
	case card.System:
		list = systemMenu
	}
	keys := []string{keyPower, keyDown, keyUp, keyLongHold, keyCharge}
	if p.Spec.Loader != nil {
		keys = append(slices.Clone(loaderKeys), keyPower, keyLongHold, keyCharge)
	}
	list = append(slices.Clone(list), keys...)
	if p.Options.Cable != nil {
		list = append(list, wire.CableKeys...)
	}
	return list
}

// answer gives the owner's answer to a question on the screen.
func (p *Phone) answer(what string) bool {
	if what != "allow" && what != "deny" && what != "yes" && what != "no" {
		return false
	}
	p.Mu.Lock()
	defer p.Mu.Unlock()
	if p.Asked == nil {
		return false
	}
	p.Asked.Answer <- what == "allow" || what == "yes"
	p.Asked = nil
	return true
}

func (p *Phone) bootloaderChoice(what string) error {
	var command string
	switch what {
	case "recovery":
		command = bcb.CommandRecovery
	case "restart bootloader":
		command = bcb.CommandBootloader
	case "power off":
		p.Move("off", 0)
		return nil
	}
	if command != "" {
		if err := p.Message(bcb.Message{Command: command}); err != nil {
			return err
		}
	}
	p.Restart() // "start" does what misc says
	return nil
}

func (p *Phone) recoveryChoice(menu, what string) error {
	set := func(m string) {
		p.Mu.Lock()
		p.Menu = m
		p.Mu.Unlock()
	}
	var m bcb.Message
	switch {
	case menu == "" && recoveryMenu[what] != nil:
		set(what)
		return nil
	case what == "back":
		set("")
		return nil
	case what == "from the computer":
		p.Move(string(card.Sideload), 0)
		return nil
	case what == "from the phone" || what == "from the card":
		mount := map[string]string{"from the phone": recovery.SharedPaths[0],
			"from the card": recovery.CardPaths[card.Recovery][0]}[what]
		local, err := p.NewestPackage(mount)
		if err != nil {
			return err
		}
		set("")
		go p.InstallFile(local)
		return nil
	case what == "all data":
		set("")
		if err := p.FormatData(); err != nil {
			p.Show("All data could not be erased: %v", err)
			return err
		}
		p.RemountData()
		p.Show("All data is erased.")
		return nil
	case menu == "erase":
		set("")
		if err := p.WipeArea(strings.TrimSuffix(what, " partition")); err != nil {
			p.Show("%s could not be erased: %v", what, err)
			return err
		}
		p.Show("Erased: %s.", what)
		return nil
	case what == "switch off":
		if err := p.Message(m); err != nil {
			return err
		}
		p.Move("off", 0)
		return nil
	case what == "to the recovery":
		m.Command = bcb.CommandRecovery
	case what == "to the bootloader":
		m.Command = bcb.CommandBootloader
	case what == "to userspace fastboot":
		if !p.HasFastbootd() {
			return fmt.Errorf("this recovery has no userspace fastboot")
		}
		m.Command = bcb.CommandFastboot
	}
	if err := p.Message(m); err != nil {
		return err
	}
	p.Restart()
	return nil
}

func (p *Phone) systemChoice(what string) error {
	switch what {
	case "restart":
		if err := p.Message(bcb.Message{}); err != nil {
			return err
		}
		p.Restart()
		return nil
	case "power off":
		p.Move("off", 0)
		return nil
	case "allow", "deny":
		return fmt.Errorf("no question is on the screen")
	}
	p.Mu.Lock()
	defer p.Mu.Unlock()
	v := p.Running.Vault
	switch {
	case what == "finish welcome" && p.State.Owner && v.Accounts == 0 &&
		p.Running.Props["ro.product.brand"] == scenario.Stock.Brand:
		return fmt.Errorf("the maker's system wants the account that was on this phone: sign in")
	case what == "finish welcome":
		v.Setup = true
	case what == "sign in":
		v.Accounts++
		p.State.Owner = true
		p.Save()
	case !v.Setup:
		return fmt.Errorf("the welcome pages come first: finish welcome")
	case strings.HasPrefix(what, "unlocking"):
		p.State.MayUnlock = what == "unlocking on"
		p.Save()
		return nil
	case what == "sign out":
		v.Accounts, p.State.Owner = 0, false
		p.Save()
	case strings.HasPrefix(what, "lock "):
		v.Lock = what == "lock on"
	default:
		v.Debugging = what == "debugging on"
	}
	if err := p.SaveVault(v, p.Running.Key); err != nil {
		return err
	}
	if strings.HasPrefix(what, "debugging") {
		p.Move("listen-again", 0)
	}
	return nil
}
