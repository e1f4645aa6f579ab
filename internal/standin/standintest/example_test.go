package standintest_test

import (
	"testing"
	"testing/synctest"
	"time"

	"jarlid/internal/link/fastboot"
	"jarlid/internal/standin/device"
	"jarlid/internal/standin/standintest"
)

// product asks a phone's bootloader what it is.
func product(t *testing.T, phone *standintest.Phone) (string, error) {
	t.Helper()
	conn, err := phone.DialContext(t.Context(), "tcp", phone.Fastboot)
	if err != nil {
		return "", err
	}
	wire, err := fastboot.NewTCP(t.Context(), conn)
	if err != nil {
		conn.Close()
		return "", err
	}
	c := fastboot.New(wire)
	defer c.Close()
	name, _, err := c.GetVar(t.Context(), "product")
	return name, err
}

// TestStart: a phone made of software runs in the test's own process, and in a bubble its restarts take no
// time: it is there, goes and comes back by its keys, and is interrupted when it is told to.
func TestStart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		phone := standintest.Start(t, "dunlin")
		if name, err := product(t, phone); err != nil || name != "dunlin" {
			t.Fatalf("product(phone): %q, %v; unwanted: err != nil || name != 'dunlin'", name, err)
		}
		phone.Press("power-long")
		time.Sleep(time.Minute)
		if _, err := phone.DialContext(t.Context(), "tcp", phone.Fastboot); err == nil {
			t.Error("a phone that is off takes connections")
		}
		phone.Press("volume-down+power")
		time.Sleep(time.Minute)
		if _, err := product(t, phone); err != nil {
			t.Errorf("it did not come back: %v", err)
		}
		phone.Fault(device.Fault{Kind: "drop-next"})
		if _, err := product(t, phone); err == nil {
			t.Error("a cable that is pulled at the next command still carries it")
		}
		if _, err := product(t, phone); err != nil {
			t.Errorf("behind the fault: %v", err)
		}
	})
}
