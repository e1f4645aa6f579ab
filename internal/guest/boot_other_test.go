//go:build !linux

package guest

func boot() {}

func holdOn() {}
