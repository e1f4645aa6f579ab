package shell

import (
	"context"
	"fmt"
	"strconv"
	"strings"
)

// Props gives all properties.
func (s *Shell) Props(ctx context.Context) (map[string]string, error) {
	a, err := s.ask(ctx, props)
	if err != nil {
		return nil, err
	}
	return parseProps(a.text()), nil
}

// parseProps reads the lines "[name]: [value]".
func parseProps(text string) map[string]string {
	props := map[string]string{}
	for line := range strings.Lines(text) {
		k, v, ok := strings.Cut(strings.TrimSpace(line), "]: [")
		if ok && strings.HasPrefix(k, "[") {
			props[k[1:]] = strings.TrimSuffix(v, "]")
		}
	}
	return props
}

// Prop gives some properties by name, "" for one that is not set.
func (s *Shell) Prop(ctx context.Context, names ...string) ([]string, error) {
	a, err := s.ask(ctx, prop, names...)
	if err != nil {
		return nil, err
	}
	var list []string
	for _, line := range a.lines() {
		if v, ok := strings.CutPrefix(line, "="); ok {
			list = append(list, strings.TrimSpace(v))
		}
	}
	if len(list) != len(names) {
		return nil, &UnreadError{prop.Name, a.says()}
	}
	return list, nil
}

// User gives the user number of the shell, 0 is root. *UnreadError where it is unknown.
func (s *Shell) User(ctx context.Context) (int, error) {
	a, err := s.ask(ctx, user)
	if err != nil {
		return 0, err
	}
	for _, line := range a.lines() {
		if n, ok := userIn(strings.TrimSpace(line)); ok {
			return n, nil
		}
	}
	return 0, &UnreadError{user.Name, a.says()}
}

// userIn reads 0, or uid=0(root) gid=0(root).
func userIn(line string) (int, bool) {
	text := strings.TrimPrefix(line, "uid=")
	if end := strings.IndexFunc(text, func(r rune) bool {
		return r < '0' || r > '9'
	}); end > 0 && text != line {
		text = text[:end]
	}
	n, err := strconv.Atoi(text)
	return n, err == nil && n >= 0
}

// Charge gives the battery's charge as the kernel tells it, in percent.
func (s *Shell) Charge(ctx context.Context) (string, error) {
	a, err := s.ask(ctx, charge)
	return a.text(), err
}

// ActiveSlot gives the number of the slot that boots next; -1 where it is unknown.
func (s *Shell) ActiveSlot(ctx context.Context) (int, error) {
	a, err := s.ask(ctx, activeSlot)
	if err != nil {
		return -1, err
	}
	n, perr := strconv.Atoi(strings.TrimSpace(a.text()))
	if perr != nil || n < 0 || n > 3 || a.code != 0 {
		return -1, nil
	}
	return n, nil
}

// Accounts gives how many accounts are in the system, over all users; known is false where it does not report
// them.
func (s *Shell) Accounts(ctx context.Context) (total int, known bool, err error) {
	a, err := s.ask(ctx, accounts)
	if err != nil {
		return 0, false, err
	}
	for _, line := range a.lines() {
		var n int
		if _, err := fmt.Sscanf(strings.TrimSpace(line), "Accounts: %d", &n); err == nil && n >= 0 {
			total, known = total+n, true // one line for each user
		}
	}
	return total, known, nil
}

// LockDisabled gives the system's word on whether the screen has no code: true, false, or another word.
func (s *Shell) LockDisabled(ctx context.Context) (string, error) {
	a, err := s.ask(ctx, locked)
	return strings.TrimSpace(a.text()), err
}

// Kernel gives the kernel's release.
func (s *Shell) Kernel(ctx context.Context) (string, error) {
	a, err := s.ask(ctx, kernel)
	return strings.TrimSpace(a.text()), err
}

// InstallApp has the package service install an app package that is on the phone, and gives its answer.
func (s *Shell) InstallApp(ctx context.Context, name string) (string, error) {
	a, err := s.ask(ctx, installApp, name)
	return strings.TrimSpace(a.text()), err
}

// Part is one file of an app in several.
type Part struct {
	Name string // in the session
	Path string // on the phone
	Size int64  // bytes
}

// InstallParts has the package service install an app of several files in one session, and gives the
// answer of the last call that was made. On a refusal the session is dropped.
func (s *Shell) InstallParts(ctx context.Context, parts []Part) (string, error) {
	total := int64(0)
	for _, p := range parts {
		total += p.Size
	}
	a, err := s.ask(ctx, openSession, strconv.FormatInt(total, 10))
	text := strings.TrimSpace(a.text())
	if err != nil || !strings.Contains(text, "Success") {
		return text, err
	}
	_, number, _ := strings.Cut(text, "[")
	number, _, ok := strings.Cut(number, "]")
	if _, err := strconv.Atoi(number); err != nil || !ok {
		return "", fmt.Errorf("the package service opened a session and gave no number: %q", text)
	}
	for _, p := range parts {
		a, err = s.ask(ctx, addToSession, number, strconv.FormatInt(p.Size, 10), p.Name, p.Path)
		if text = strings.TrimSpace(a.text()); err != nil || !strings.Contains(text, "Success") {
			_, _ = s.ask(context.WithoutCancel(ctx), abandonSession, number)
			return text, err
		}
	}
	a, err = s.ask(ctx, commitSession, number)
	if text = strings.TrimSpace(a.text()); err != nil || !strings.Contains(text, "Success") {
		_, _ = s.ask(context.WithoutCancel(ctx), abandonSession, number)
	}
	return text, err
}

// HasApp reports whether the package service lists an app.
func (s *Shell) HasApp(ctx context.Context, name string) (bool, error) {
	a, err := s.ask(ctx, apps, name)
	for _, line := range a.lines() {
		if strings.TrimSpace(line) == "package:"+name {
			return true, err
		}
	}
	return false, err
}
