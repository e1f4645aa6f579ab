package phone

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/ext4"
	"jarlid/internal/core/place"
	"jarlid/internal/link"
)

// DataState checks the start of userdata: never written, freshly formatted,
// encrypted as a whole, or (empty) something that can't be checked from there,
// as file by file encryption can't.
func (s *Session) DataState(ctx context.Context) (string, error) {
	const look = 8192
	b, err := s.ReadBlock(ctx, "userdata", look)
	if err != nil || b == nil {
		return "", err
	}
	if image.IsZero(b) {
		return card.DataFormatted, nil
	}
	switch fs := Ext4Super(b); {
	case fs != nil && fs.Fresh():
		return card.DataFormatted, nil
	case fs != nil, systemType(b) == "f2fs":
		return s.plainData(ctx)
	}
	return card.DataEncrypted, nil
}

// plainData looks into data whose file system can be read: the list of installed
// apps tells that it is not encrypted. Where that is encrypted file by file, its
// name is not there or is not a list. Data in which there is nothing but the shared
// storage has no apps that could be of another system.
func (s *Session) plainData(ctx context.Context) (string, error) {
	text, err := s.Text(ctx, "head -c 64 /data/system/packages.xml 2>/dev/null || cat "+
		"/data/system/packages.xml 2>/dev/null")
	if err != nil {
		return "", err
	}
	// The list is XML, or the platform's binary form of it, which begins with "ABX"
	// (BinaryXmlSerializer.java).
	if strings.HasPrefix(text, "<?xml") || strings.HasPrefix(text, "ABX") {
		return card.DataPlain, nil
	}
	text, err = s.Text(ctx, "ls -A /data 2>/dev/null")
	if err != nil || text == "" {
		return "", err
	}
	for line := range strings.SplitSeq(text, "\n") {
		if !leftByWipe[line] {
			return "", nil
		}
	}
	return card.DataFormatted, nil
}

// leftByWipe are the folders in data that has no apps any more.
var leftByWipe = map[string]bool{"media": true, "lost+found": true, ".layout_version": true}

// readLying reads which packages are in the shared storage, so that they are not
// erased unseen. In modes that can't tell it does nothing.
func (s *Session) readLying(ctx context.Context) error {
	if !s.RootRecovery() {
		return nil
	}
	var names []string
	for _, dir := range []string{"/sdcard", "/sdcard/Download"} {
		text, err := s.Text(ctx, "ls "+dir+" 2>/dev/null")
		if err != nil {
			return err
		}
		for line := range strings.SplitSeq(text, "\n") {
			if strings.HasSuffix(strings.ToLower(line), ".zip") {
				names = append(names, line)
			}
		}
	}
	if len(names) > 0 {
		s.learn(card.FactLying.Of("storage"), strings.Join(names, ", "))
	}
	return nil
}

// readRoom reads how much room the system on the slot that runs has for add-ons:
// the free blocks its super block tells. A file system that can't be written has
// none. In modes that can't tell it does nothing.
func (s *Session) readRoom(ctx context.Context) error {
	if !s.RootRecovery() {
		return nil
	}
	system := card.At("system", s.Card.Value(card.FactStarted))
	dev, err := s.Device(ctx, system, place.Logical(s.Card, "system"))
	if err != nil {
		return err
	}
	b, err := s.readDeviceHead(ctx, dev)
	if fs := Ext4Super(b); err == nil && fs != nil {
		s.learn(card.FactRoom.Of(system), fmt.Sprint(fs.Free()))
	}
	return err
}

// readRelease reads which release the system on the slot that runs is of, out of its partition.
// What can't be read there stays as it is known.
func (s *Session) readRelease(ctx context.Context) error {
	slot := s.Card.Value(card.FactStarted)
	r, size, err := s.Partitions(ctx, slot)("system")
	var lost *link.LostError
	if errors.As(err, &lost) {
		return err
	}
	if err != nil {
		return nil
	}
	tree, err := fit.Tree(r, size)
	if err == nil {
		var props map[string]string
		if props, err = fit.Props(tree); err == nil {
			place.LearnRelease(props, slot, s.learn)
		}
	}
	if errors.As(err, &lost) {
		return err
	}
	return nil
}

// readDeviceHead reads the first block of a device; nil where it can't be read.
func (s *Session) readDeviceHead(ctx context.Context, dev string) ([]byte, error) {
	return s.readDeviceAt(ctx, dev, 0, blockSize)
}

// Ext4Super reads the super block in the first blocks of a partition; nil when it
// is no ext4.
func Ext4Super(b []byte) *ext4.Super {
	s, _ := ext4.ParseSuper(bytes.NewReader(b), int64(len(b))) // of a file system that goes on behind them
	return s
}

// systemType tells a file system by its super block.
func systemType(b []byte) string {
	if len(b) < blockSize {
		return ""
	}
	le := binary.LittleEndian
	s := Ext4Super(b)
	switch {
	case s != nil && s.SharedBlocks():
		return "ext4-shared"
	case s != nil:
		return "ext4"
	case le.Uint32(b[1024:]) == 0xe0f5e1e2: // Documentation/filesystems/erofs.rst
		return "erofs"
	case le.Uint32(b) == 0x73717368: // Documentation/filesystems/squashfs.rst
		return "squashfs"
	case le.Uint32(b[1024:]) == 0xf2f52010: // Documentation/filesystems/f2fs.rst
		return "f2fs"
	}
	return ""
}
