package scenario

import (
	"archive/zip"
	"bytes"
	"encoding/binary"

	"jarlid/internal/core/image/apk"
)

// App is an app package of the scenario.
type App struct {
	Name    string // of the package
	Version int32
	MinSDK  int32
	ABI     string // of its library; "" for none
}

// The apps of the scenario: what the observers count with.
var (
	FieldLog = App{Name: "org.saltmarsh.fieldlog", Version: 42, MinSDK: 29}
	TideTool = App{Name: "org.saltmarsh.tidetool", Version: 7, MinSDK: 23, ABI: "arm64-v8a"}
)

// Package makes the app's zip with its compiled manifest (ResourceTypes.h).
func (a App) Package() ([]byte, error) {
	files := []member{{apk.ManifestName, a.manifest()}, {"classes.dex", []byte("dex\n035\x00" + a.Name)}}
	if a.ABI != "" {
		files = append(files, member{"lib/" + a.ABI + "/libtide.so", library(a.ABI, 256)})
	}
	return pack(zip.Deflate, files...)
}

func (a App) manifest() []byte {
	le := binary.LittleEndian
	chunk := func(typ, head uint16, header, body []byte) []byte {
		b := le.AppendUint16(nil, typ)
		b = le.AppendUint16(b, head)
		b = le.AppendUint32(b, uint32(8+len(header)+len(body)))
		return append(append(b, header...), body...)
	}
	words := func(v ...uint32) (b []byte) {
		for _, w := range v {
			b = le.AppendUint32(b, w)
		}
		return b
	}
	// The attributes' names come first: the table of resource numbers is theirs.
	texts := []string{"versionCode", "minSdkVersion", "package", "manifest", "uses-sdk", a.Name}
	var offsets, data []byte
	for _, s := range texts {
		offsets = append(offsets, words(uint32(len(data)))...)
		data = append(data, byte(len(s)), byte(len(s)))
		data = append(append(data, s...), 0)
	}
	for len(data)%4 != 0 {
		data = append(data, 0)
	}
	pool := chunk(1, 28, words(uint32(len(texts)), 0, 1<<8, uint32(28+len(offsets)), 0), append(offsets, data...))
	ids := chunk(0x180, 8, nil, words(0x0101021b, 0x0101020c))
	const none = 0xffffffff
	attr := func(name, raw, kind, value uint32) []byte { return words(none, name, raw, 8|kind<<24, value) }
	element := func(name uint32, attrs ...[]byte) []byte {
		b := append(words(none, name), le.AppendUint16(le.AppendUint16(le.AppendUint16(nil, 20), 20), uint16(len(attrs)))...)
		b = append(b, 0, 0, 0, 0, 0, 0) // no id, class or style
		return chunk(0x102, 16, words(1, none), append(b, bytes.Join(attrs, nil)...))
	}
	end := func(name uint32) []byte { return chunk(0x103, 16, words(1, none), words(none, name)) }
	body := bytes.Join([][]byte{pool, ids, element(3, attr(0, none, 0x10, uint32(a.Version)), attr(2, 5, 0x03, 5)),
		element(4, attr(1, none, 0x10, uint32(a.MinSDK))), end(4), end(3)}, nil)
	return chunk(3, 8, nil, body)
}
