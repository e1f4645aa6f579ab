// Command jarlid puts custom firmware on unlocked phones.
package main

import (
	"os"
	"os/signal"
	"syscall"

	"jarlid/internal/cli"
	"jarlid/internal/core/local"
	"jarlid/internal/host"
	"jarlid/internal/link/serial"
	"jarlid/internal/link/usb"
)

func main() { os.Exit(run()) }

func run() int {
	defer host.Prepare()()
	local.TypedIn(host.TypedIn())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	interrupts, closing := make(chan struct{}), make(chan struct{})
	go func() {
		for s := range signals {
			// The window is closed, or the user logs off: some seconds are left. On Windows that is
			// what a termination signal stands for; elsewhere it is another program's wish to end.
			if s == syscall.SIGHUP || s == syscall.SIGTERM && host.Folds {
				close(closing)
				return
			}
			interrupts <- struct{}{}
		}
	}()
	c := cli.Config{Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Interrupts: interrupts,
		Closing: closing, Hold: host.Hold, Cable: usb.System(), Ports: serial.System(), Chdir: os.Chdir}
	if host.Clicked() {
		return cli.RunClicked(os.Args[1:], c)
	}
	return cli.Run(os.Args[1:], c)
}
