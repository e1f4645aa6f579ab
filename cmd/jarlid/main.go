// Command jarlid puts custom firmware on unlocked phones.
package main

import (
	"os"
	"os/signal"
	"syscall"

	"jarlid/internal/cli"
	"jarlid/internal/link/usb"
)

func main() {
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	interrupts := make(chan struct{})
	go func() {
		for range signals {
			interrupts <- struct{}{}
		}
	}()
	os.Exit(cli.Run(os.Args[1:], cli.Config{Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr,
		Interrupts: interrupts, Chdir: os.Chdir, Cable: usb.System()}))
}
