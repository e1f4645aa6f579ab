package fastboot_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"time"

	"jarlid/internal/link/fastboot"
)

// A client asks a bootloader that answers over a connection of any kind: after the
// handshake each packet has its length before it.
func ExampleClient_GetVar() {
	near, far := net.Pipe()
	go func() { // the phone
		hello := make([]byte, 4)
		io.ReadFull(far, hello)
		far.Write([]byte("FB01"))
		question := make([]byte, 8+len("getvar:product"))
		io.ReadFull(far, question)
		far.Write([]byte("\x00\x00\x00\x00\x00\x00\x00\x0aOKAYdunlin"))
	}()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	t, err := fastboot.NewTCP(ctx, near)
	if err != nil {
		fmt.Println(err)
		return
	}
	c := fastboot.New(t)
	defer c.Close()
	product, ok, err := c.GetVar(ctx, "product")
	fmt.Println(product, ok, err)
	// Output:
	// dunlin true <nil>
}
