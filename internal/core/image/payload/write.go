package payload

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"io"

	"google.golang.org/protobuf/encoding/protowire"

	"jarlid/internal/core/image"
)

// Source is a partition's image to be put into a payload.
type Source struct {
	Name string
	Data []byte
	// Pack compresses an operation's data and says as which type; nil keeps it
	// as it is (REPLACE).
	Pack func([]byte) (OpType, []byte, error)
}

// opBlocks is how many blocks an operation of Write covers: 2 MiB, as the
// platform's own generator makes full payloads.
const opBlocks = 512

// Write makes a full payload of the given partitions: an operation for each
// 2 MiB, blocks of zeros as ZERO. It is unsigned.
func Write(w io.Writer, maxTimestamp int64, parts []Source) error {
	const bs = 4096
	var blobs bytes.Buffer
	var manifest []byte
	manifest = num(manifest, 3, bs)
	for _, src := range parts {
		data := append(src.Data[:len(src.Data):len(src.Data)], make([]byte, -len(src.Data)&(bs-1))...)
		sum := sha256.Sum256(data)
		part := str(nil, 1, []byte(src.Name))
		part = str(part, 7, str(num(nil, 1, uint64(len(data))), 2, sum[:]))
		for at := 0; at < len(data); {
			end := at + bs
			zero := image.IsZero(data[at:end])
			for end < len(data) && end-at < opBlocks*bs && image.IsZero(data[end:end+bs]) == zero {
				end += bs
			}
			ext := num(num(nil, 1, uint64(at/bs)), 2, uint64((end-at)/bs))
			op := num(nil, 1, uint64(Zero))
			if !zero {
				typ, body := Replace, data[at:end]
				if src.Pack != nil {
					var err error
					if typ, body, err = src.Pack(body); err != nil {
						return err
					}
				}
				sum := sha256.Sum256(body)
				op = num(nil, 1, uint64(typ))
				op = num(op, 2, uint64(blobs.Len()))
				op = num(op, 3, uint64(len(body)))
				op = str(op, 8, sum[:])
				blobs.Write(body)
			}
			part = str(part, 8, str(op, 6, ext))
			at = end
		}
		manifest = str(manifest, 13, part)
	}
	manifest = num(manifest, 14, uint64(maxTimestamp))
	h := binary.BigEndian.AppendUint64([]byte(Magic), 2)
	h = binary.BigEndian.AppendUint64(h, uint64(len(manifest)))
	h = binary.BigEndian.AppendUint32(h, 0)
	for _, b := range [][]byte{h, manifest, blobs.Bytes()} {
		if _, err := w.Write(b); err != nil {
			return err
		}
	}
	return nil
}

func num(b []byte, n protowire.Number, v uint64) []byte {
	return protowire.AppendVarint(protowire.AppendTag(b, n, protowire.VarintType), v)
}

func str(b []byte, n protowire.Number, v []byte) []byte {
	return protowire.AppendBytes(protowire.AppendTag(b, n, protowire.BytesType), v)
}
