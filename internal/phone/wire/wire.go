// Package wire reaches phones: addresses, sockets of cables and serial lines, which of them is which phone,
// and the connections that speak fastboot, ADB and the loader protocol. What a connection can do are
// interfaces; what its answers mean is known by package phone.
package wire

import (
	"context"
	"fmt"
	"io"
	"time"

	"jarlid/internal/core/card"
	"jarlid/internal/core/image/parttable"
	"jarlid/internal/files"
	"jarlid/internal/link/adb"
	"jarlid/internal/phone/shell"
)

// Conn is an open connection to a phone in one mode, whatever is spoken over it.
// What it can do beyond this are the interfaces below.
type Conn interface {
	Mode() card.Mode
	Address() Address
	// Restart sends the phone into a mode. *link.RefusedError where the phone or the
	// wire knows no such restart.
	Restart(ctx context.Context, to card.Mode) error
	// Gone waits until the phone has gone away after a restart.
	Gone(ctx context.Context)
	Close() error
}

// The capabilities a wire may have.
type (
	// Lister has variables, as a bootloader does: all that it lists, and each by name; "" for one it does not
	// have.
	Lister interface {
		Variables(ctx context.Context) (map[string]string, error)
		Variable(ctx context.Context, name string) (value string, unknown bool, err error)
	}
	// Greeter gave properties in its greeting.
	Greeter interface{ Greeting() map[string]string }
	// Reporter reports facts of a manufacturer's loader: in its hello, and when it is asked.
	Reporter interface {
		Hello() map[string]string
		Told(ctx context.Context) (map[string]string, error)
	}
	// Writer writes images to partitions. Of an image larger than limit (0: none) the
	// wire sends parts; moved is told how many bytes of the image are done.
	Writer interface {
		Write(ctx context.Context, partition string, r io.ReaderAt, size, limit int64, moved func(int64)) (
			answers []string, err error)
	}
	// Eraser erases partitions.
	Eraser interface {
		Erase(ctx context.Context, partition string) (answers []string, err error)
	}
	// Fetcher gives out what partitions hold, n bytes from off on of whole.
	Fetcher interface {
		Fetch(ctx context.Context, partition string, off, n, whole int64, w io.Writer) (int64, error)
	}
	// Commander takes commands of the bootloader as text, silent for at most quiet.
	Commander interface {
		Command(ctx context.Context, text string, quiet time.Duration) (answers []string, err error)
	}
	// Starter starts an image without writing it.
	Starter interface {
		Start(ctx context.Context, r io.Reader, size int64, moved func(int64)) (answers []string, err error)
	}
	// Slotter chooses the slot that starts next.
	Slotter interface {
		SetActive(ctx context.Context, slot string) (answers []string, err error)
	}
	// Tabler has a table of partitions that can be read and written.
	Tabler interface {
		Table(ctx context.Context) ([]parttable.Partition, error)
		WriteTable(ctx context.Context, b []byte) (digest string, err error)
	}
	// Sheller runs a command line in the phone's shell; package shell has them.
	Sheller = shell.Sender
	// Syncer reads and writes files of the phone.
	Syncer interface {
		Sync(ctx context.Context) (*adb.Sync, error)
	}
	// Installer sends packages to a recovery: block by block as it asks for them, or
	// whole. quiet bounds how long it may ask for nothing.
	Installer interface {
		Sideload(ctx context.Context, r io.ReaderAt, size int64, quiet time.Duration,
			served func(off, n int64)) (adb.Closing, error)
		SideloadWhole(ctx context.Context, r io.ReaderAt, size int64, quiet time.Duration,
			sent func(off, n int64)) error
	}
)

// restartTargets are the modes as the protocols name them.
var restartTargets = map[card.Mode]string{card.System: "", card.Bootloader: "bootloader",
	card.Recovery:  "recovery",
	card.Fastbootd: "fastboot", card.Sideload: "sideload"}

// ErrNoPartition says that the phone has no such partition. It is an fs.ErrNotExist.
var ErrNoPartition = fmt.Errorf("the phone has no such partition: %w", files.ErrNoImage)

// Address is where a phone is reached: a scheme and what follows its colon.
type Address struct{ Scheme, Place string }

// String writes the address as on the command line.
func (a Address) String() string {
	if a.Scheme == "" {
		return ""
	}
	return a.Scheme + ":" + a.Place
}
