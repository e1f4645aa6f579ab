package standintest

import (
	"bytes"
	"encoding/binary"

	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/cpio"
)

// LargeRecovery makes a recovery for dunlin of the given size in bytes, most of it a kernel that
// is not zeros, for transfers that take their time.
func LargeRecovery(size int) ([]byte, error) {
	var rd bytes.Buffer
	w := cpio.NewWriter(&rd)
	for name, body := range map[string]string{"system/bin/recovery": "x",
		"standin/traits.yaml": "shell: true\n",
		"prop.default": "ro.product.device=dunlin\nro.build.display.id=Large Recovery " +
			"1\nro.debuggable=1\n"} {
		if err := w.Add(cpio.Header{Name: name, Mode: cpio.TypeFile | 0o755}, []byte(body)); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	kernel := make([]byte, size)
	for i := 0; i+8 <= len(kernel); i += 8 {
		binary.LittleEndian.PutUint64(kernel[i:], uint64(i)*0x9e3779b97f4a7c15+1)
	}
	return boot.Build(boot.Image{HeaderVersion: 2, PageSize: 4096},
		boot.Parts{Kernel: kernel, Ramdisk: rd.Bytes(), DTB: []byte("dtb")})
}
