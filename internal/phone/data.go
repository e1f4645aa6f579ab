package phone

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"jarlid/internal/core/card"
	"jarlid/internal/core/fit"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/ext4"
	"jarlid/internal/core/image/filesystem"
	"jarlid/internal/core/place"
	"jarlid/internal/link"
	"jarlid/internal/phone/shell"
	"jarlid/internal/phone/wire"
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
	if fs := ext4.Start(b); fs != nil && fs.Fresh() {
		return card.DataFormatted, nil
	}
	switch filesystem.Certain(b).Driver {
	case "ext4", "f2fs":
		return s.plainData(ctx)
	}
	return card.DataEncrypted, nil
}

// plainData looks into data whose file system can be read: the list of installed
// apps tells that it is not encrypted. Where that is encrypted file by file, its
// name is not there or is not a list. Data in which there is nothing but the shared
// storage has no apps that could be of another system.
func (s *Session) plainData(ctx context.Context) (string, error) {
	dir, err := s.Mounted(ctx, AreaData)
	var not *NotMountedError
	if errors.As(err, &not) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	b, ok, err := s.Shell().Start(ctx, dir+"/system/packages.xml")
	if err != nil {
		return "", s.unread(err)
	}
	// The list is XML, or the platform's binary form of it, which begins with "ABX"
	// (BinaryXmlSerializer.java).
	if ok && (bytes.HasPrefix(b, []byte("<?xml")) || bytes.HasPrefix(b, []byte("ABX"))) {
		return card.DataPlain, nil
	}
	names, is, err := s.Shell().Folder(ctx, dir)
	if err != nil || !is {
		return "", s.unread(err)
	}
	for _, name := range names {
		if !leftByWipe[name] {
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
	dir, err := s.Mounted(ctx, AreaStorage)
	var not *NotMountedError
	if errors.As(err, &not) {
		return nil
	}
	if err != nil {
		return err
	}
	var lying []string
	all := map[string]bool{}
	for _, d := range []string{dir, dir + "/Download"} {
		names, _, err := s.Shell().Folder(ctx, d)
		if err != nil {
			return s.unread(err)
		}
		for _, name := range names {
			all[name] = true
			if strings.HasSuffix(strings.ToLower(name), ".zip") {
				lying = append(lying, name)
			}
		}
	}
	if lying == nil {
		lying = []string{card.Nothing}
	}
	s.learn(card.FactLying.Of(AreaStorage), strings.Join(lying, ", "))
	s.forgetGone(all)
	return nil
}

// forgetGone forgets of the files that jobs have put into the storage those that are not there any more.
func (s *Session) forgetGone(there map[string]bool) {
	stored := s.Card.Get(card.FactStored.Of(AreaStorage))
	if !stored.Known() {
		return
	}
	var left []string
	for name := range strings.SplitSeq(stored.Value, ", ") {
		if there[name] {
			left = append(left, name)
		}
	}
	stored.Value = strings.Join(left, ", ")
	if left == nil {
		stored = card.Fact{Why: "it is not in the storage any more"}
	}
	s.Card.Set(card.FactStored.Of(AreaStorage), stored)
}

// readRoom reads how much room the system on the slot that runs has for add-ons:
// the free blocks its super block tells. A file system that can't be written has
// none. In modes that can't tell it does nothing.
func (s *Session) readRoom(ctx context.Context) error {
	if !s.RootRecovery() {
		return nil
	}
	system := card.At("system", s.Card.Value(card.FactStarted))
	dev, err := s.Block(ctx, system)
	if errors.Is(err, wire.ErrNoPartition) || shell.Unknown(err) {
		return nil
	}
	if err != nil {
		return err
	}
	b, err := s.readDeviceAt(ctx, dev, 0, blockSize)
	if fs := ext4.Start(b); err == nil && fs != nil {
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
	tree, err := filesystem.Open(r, size)
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
