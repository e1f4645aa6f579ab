package standin

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/bcb"
	"jarlid/internal/core/spell"
	"jarlid/internal/standin/scenario"
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
		p.mu.Lock()
		reply.Mode, reply.Choices = modeWord(p.st.Mode), p.choices()
		reply.Screen = slices.Clone(p.screen[max(0, len(p.screen)-8):])
		p.mu.Unlock()
		_ = json.NewEncoder(w).Encode(reply)
	})
	mux.HandleFunc("POST /"+token+"/fault", func(w http.ResponseWriter, r *http.Request) {
		var f Fault
		var reply PressReply
		err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&f)
		if err == nil {
			err = p.order(f)
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
func Press(ctx context.Context, n Net, control string, keys []string) (PressReply, error) {
	return order(ctx, n, control, "press", PressRequest{Press: keys})
}

// OrderFault makes something go wrong on a running stand-in.
func OrderFault(ctx context.Context, n Net, control string, f Fault) error {
	_, err := order(ctx, n, control, "fault", f)
	return err
}

func order(ctx context.Context, n Net, control, what string, wish any) (PressReply, error) {
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
		n = &Loopback{}
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
	if p.spec.Loader != nil {
		if done, err := p.loaderKey(what); done {
			return err
		}
	}
	p.mu.Lock()
	mode, menu := p.st.Mode, p.menu
	p.mu.Unlock()
	delay := time.Duration(p.spec.Delays.Restart)
	if p.spec.Loader != nil && (what == keyDown || what == keyUp) {
		return errors.New("nothing happens: this phone has a side key, and it is pressed too")
	}
	switch what {
	case keyDown:
		p.move(string(card.Bootloader), delay)
		return nil
	case keyUp:
		if err := p.message(bcb.Message{Command: bcb.CommandRecovery}); err != nil {
			return err
		}
		p.restart()
		return nil
	case keyLongHold:
		p.move("off", 0)
		return nil
	case keyCharge:
		p.mu.Lock()
		defer p.mu.Unlock()
		p.st.Percent = 100
		p.save()
		return nil
	case keyPower:
		if mode == card.None {
			p.restart()
		}
		return nil
	}
	if p.o.Cable != nil && slices.Contains(cableKeys, what) {
		p.handle(what)
		return nil
	}
	switch mode {
	case card.Bootloader:
		if slices.Contains(bootloaderMenu, what) {
			return p.bootloaderChoice(what)
		}
	case card.Fastbootd:
		if what == "recovery" {
			p.move(string(card.Recovery), 0)
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
			p.move(string(card.Recovery), 0)
			return nil
		}
	case card.System:
		if slices.Contains(systemMenu, what) {
			return p.systemChoice(what)
		}
	}
	p.mu.Lock()
	choices := p.choices()
	p.mu.Unlock()
	return fmt.Errorf("in this mode (%s) there is no %q on the phone%s", modeWord(mode), what,
		spell.NoneOf(what, choices))
}

// choices are the keys there are, and the entries of the menu that is shown. p.mu is held.
func (p *Phone) choices() []string {
	var list []string
	switch p.st.Mode {
	case card.Bootloader:
		list = bootloaderMenu
	case card.Fastbootd:
		list = fastbootdMenu
	case card.Recovery:
		list = recoveryMenu[p.menu]
	case card.Sideload:
		list = []string{"cancel"}
	case card.System:
		list = systemMenu
	}
	keys := []string{keyPower, keyDown, keyUp, keyLongHold, keyCharge}
	if p.spec.Loader != nil {
		keys = append(slices.Clone(loaderKeys), keyPower, keyLongHold, keyCharge)
	}
	list = append(slices.Clone(list), keys...)
	if p.o.Cable != nil {
		list = append(list, cableKeys...)
	}
	return list
}

// answer gives the owner's answer to a question on the screen.
func (p *Phone) answer(what string) bool {
	if what != "allow" && what != "deny" && what != "yes" && what != "no" {
		return false
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ask == nil {
		return false
	}
	p.ask.answer <- what == "allow" || what == "yes"
	p.ask = nil
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
		p.move("off", 0)
		return nil
	}
	if command != "" {
		if err := p.message(bcb.Message{Command: command}); err != nil {
			return err
		}
	}
	p.restart() // "start" does what misc says
	return nil
}

func (p *Phone) recoveryChoice(menu, what string) error {
	set := func(m string) {
		p.mu.Lock()
		p.menu = m
		p.mu.Unlock()
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
		p.move(string(card.Sideload), 0)
		return nil
	case what == "from the phone" || what == "from the card":
		mount := map[string]string{"from the phone": sharedPaths[0],
			"from the card": cardPaths[card.Recovery][0]}[what]
		local, err := p.newestPackage(mount)
		if err != nil {
			return err
		}
		set("")
		go p.installFile(local)
		return nil
	case what == "all data":
		set("")
		if err := p.formatData(); err != nil {
			p.show("All data could not be erased: %v", err)
			return err
		}
		p.remountData()
		p.show("All data is erased.")
		return nil
	case menu == "erase":
		set("")
		if err := p.wipeArea(strings.TrimSuffix(what, " partition")); err != nil {
			p.show("%s could not be erased: %v", what, err)
			return err
		}
		p.show("Erased: %s.", what)
		return nil
	case what == "switch off":
		if err := p.message(m); err != nil {
			return err
		}
		p.move("off", 0)
		return nil
	case what == "to the recovery":
		m.Command = bcb.CommandRecovery
	case what == "to the bootloader":
		m.Command = bcb.CommandBootloader
	case what == "to userspace fastboot":
		if !p.hasFastbootd() {
			return fmt.Errorf("this recovery has no userspace fastboot")
		}
		m.Command = bcb.CommandFastboot
	}
	if err := p.message(m); err != nil {
		return err
	}
	p.restart()
	return nil
}

// wipeArea erases one area as the recovery's menu does.
func (p *Phone) wipeArea(area string) error {
	plain := p.dataState() == dataPlain
	switch area {
	case "caches":
		if plain {
			if err := os.RemoveAll(p.plainFile("dalvik-cache")); err != nil {
				return err
			}
		}
		if p.store.Has("cache") {
			return p.formatPartition("cache")
		}
	case "apps":
		if !plain {
			return errors.New("the data is encrypted; it can only be formatted as a whole")
		}
		return os.RemoveAll(p.store.Overlay("userdata"))
	case "storage":
		return phoneFiles{p, card.Recovery}.tree().remove(sharedPaths[0])
	case "system":
		return p.formatPartition(p.on("system", p.run.slot))
	}
	return nil
}

func (p *Phone) systemChoice(what string) error {
	switch what {
	case "restart":
		if err := p.message(bcb.Message{}); err != nil {
			return err
		}
		p.restart()
		return nil
	case "power off":
		p.move("off", 0)
		return nil
	case "allow", "deny":
		return fmt.Errorf("no question is on the screen")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	v := p.run.vault
	switch {
	case what == "finish welcome" && p.st.Owner && v.Accounts == 0 &&
		p.run.props["ro.product.brand"] == scenario.Stock.Brand:
		return fmt.Errorf("the maker's system wants the account that was on this phone: sign in")
	case what == "finish welcome":
		v.Setup = true
	case what == "sign in":
		v.Accounts++
		p.st.Owner = true
		p.save()
	case !v.Setup:
		return fmt.Errorf("the welcome pages come first: finish welcome")
	case strings.HasPrefix(what, "unlocking"):
		p.st.MayUnlock = what == "unlocking on"
		p.save()
		return nil
	case what == "sign out":
		v.Accounts, p.st.Owner = 0, false
		p.save()
	case strings.HasPrefix(what, "lock "):
		v.Lock = what == "lock on"
	default:
		v.Debugging = what == "debugging on"
	}
	if err := p.saveVault(v, p.run.key); err != nil {
		return err
	}
	if strings.HasPrefix(what, "debugging") {
		p.move("listen-again", 0)
	}
	return nil
}
