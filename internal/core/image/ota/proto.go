package ota

import (
	"archive/zip"
	"strconv"
	"strings"

	"jarlid/internal/core/image"
	"jarlid/internal/core/image/payload"
)

// protoMetadata reads the metadata's second form, the message OtaMetadata of
// ota_metadata.proto (build/make, tools/releasetools), by the keys of the
// first. Field numbers as there.
func protoMetadata(f *zip.File) (map[string]string, error) {
	b, err := content(f)
	if err != nil {
		return nil, err
	}
	types := map[uint64]string{1: "AB", 2: "BLOCK", 3: "BRICK"}
	flags := map[int]string{2: "ota-wipe", 3: "ota-downgrade", 7: "ota-retrofit-dynamic-partitions",
		9: "spl-downgrade"}
	m := map[string]string{}
	err = payload.EachField(b, func(f payload.Field) error {
		switch num := int(f.Num); num {
		case 1:
			m["ota-type"] = types[f.Value]
		case 2, 3, 7, 9:
			if f.Value != 0 {
				m[flags[num]] = "yes"
			}
		case 4:
			return entry(f.Bytes, m)
		case 5:
			return state(f.Bytes, "pre-", m)
		case 6:
			return state(f.Bytes, "post-", m)
		case 8:
			m["ota-required-cache"] = strconv.FormatUint(f.Value, 10)
		}
		return nil
	})
	if err != nil {
		return nil, &image.Error{Format: formatName, Offset: -1, What: f.Name + " is damaged", Err: err}
	}
	return m, nil
}

// entry reads one entry of a map of strings into m.
func entry(b []byte, m map[string]string) error {
	var pair [3]string
	err := payload.EachField(b, func(f payload.Field) error {
		if f.Num < 3 {
			pair[f.Num] = string(f.Bytes)
		}
		return nil
	})
	m[pair[1]] = pair[2]
	return err
}

// state reads a DeviceState; its keys in the text form begin with prefix.
func state(b []byte, prefix string, m map[string]string) error {
	names := map[int]string{1: "device", 2: "build", 3: "build-incremental", 4: "timestamp", 5: "sdk-level",
		6: "security-patch-level"}
	list := map[string][]string{}
	err := payload.EachField(b, func(f payload.Field) error {
		key := prefix + names[int(f.Num)]
		switch {
		case key == prefix:
		case f.Num == 4:
			list[key] = []string{strconv.FormatInt(int64(f.Value), 10)}
		default:
			list[key] = append(list[key], string(f.Bytes))
		}
		return nil
	})
	for k, v := range list {
		m[k] = strings.Join(v, "|")
	}
	return err
}
