package payload

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"math/rand/v2"
	"reflect"
	"testing"

	"jarlid/internal/core/image"
)

func unhex(t testing.TB, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(s)
	if err != nil {
		t.Fatalf("hex.DecodeString(s): %v", err)
	}
	return b
}

// byHand is a payload put together by hand: the header in big-endian, the
// manifest encoded by the protobuf rules from update_metadata.proto.
func byHand(t testing.TB) []byte {
	manifest := unhex(t, "188020"+ // block_size (3) = 4096
		"6a27"+ // partitions (13), 39 bytes
		"0a04626f6f74"+ // partition_name (1) = "boot"
		"3a05"+"088040"+"1200"+ // new_partition_info (7): size (1) = 8192, hash (2) empty
		// operations (8): REPLACE, data 0..3, block 0
		"420e"+"0800"+"1000"+"1803"+"3204"+"0800"+"1001"+"4200"+
		"4208"+"0806"+"3204"+"0801"+"1001"+ // ZERO, block 1
		"70b9f0e1ac06") // max_timestamp (14)
	b := []byte("CrAU\x00\x00\x00\x00\x00\x00\x00\x02")
	b = binary.BigEndian.AppendUint64(b, uint64(len(manifest)))
	b = binary.BigEndian.AppendUint32(b, 0)
	return append(append(b, manifest...), "abc"...)
}

func TestByHand(t *testing.T) {
	b := byHand(t)
	p, err := Parse(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatalf("Parse(bytes.NewReader(b), int64(len(b))): %v", err)
	}
	want := []Partition{{Name: "boot", Size: 8192, Hash: []byte{}, Ops: []Operation{
		{Type: Replace, Length: 3, Dst: []Extent{{0, 1}}, SHA256: []byte{}},
		{Type: Zero, Dst: []Extent{{1, 1}}}}}}
	if !reflect.DeepEqual(p.Partitions, want) || p.BlockSize != 4096 || p.Delta() {
		t.Errorf("Parse(bytes.NewReader(b), int64(len(b))): %+v", p)
	}
	m := &memory{b: bytes.Repeat([]byte{0xee}, 8192)}
	for i := range p.Partitions[0].Ops {
		if err := p.Apply(bytes.NewReader(b), &p.Partitions[0], &p.Partitions[0].Ops[i], m); err != nil {
			t.Fatalf("p.Apply(bytes.NewReader(b), &p.Partitions[0], &p.Partitions[0].Ops[i], m): %v", err)
		}
	}
	if want := append([]byte("abc"), make([]byte, 8189)...); !bytes.Equal(m.b, want) {
		t.Error("applied, the bytes differ")
	}
	for n := range b {
		if _, err := Parse(bytes.NewReader(b[:n]), int64(n)); !image.IsShort(err) {
			t.Errorf("cut to %d bytes: %v", n, err)
		}
	}
}

type memory struct{ b []byte }

func (m *memory) WriteAt(p []byte, off int64) (int, error) { return copy(m.b[off:], p), nil }
func (m *memory) Zero(off, n int64) error                  { clear(m.b[off : off+n]); return nil }

func TestRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	data := make([]byte, 9<<20+123)
	for i := range data {
		if i/300000%2 == 0 {
			data[i] = byte(r.Uint32())
		}
	}
	var b bytes.Buffer
	if err := Write(&b, 1, []Source{{Name: "system", Data: data},
		{Name: "vbmeta", Data: []byte("AVB0")}}); err != nil {
		t.Fatalf("Write(&b, 1, ...): %v", err)
	}
	p, err := Parse(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		t.Fatalf("Parse(bytes.NewReader(b.Bytes()), int64(b.Len())): %v", err)
	}
	part := p.Partition("system")
	m := &memory{b: make([]byte, part.Size)}
	for i := range part.Ops {
		if err := p.Apply(bytes.NewReader(b.Bytes()), part, &part.Ops[i], m); err != nil {
			t.Fatalf("p.Apply(bytes.NewReader(b.Bytes()), part, &part.Ops[i], m): %v", err)
		}
	}
	if sum := sha256.Sum256(m.b); !bytes.Equal(m.b[:len(data)], data) || !bytes.Equal(sum[:], part.Hash) {
		t.Error("applied, the bytes differ")
	}
	bad := bytes.Clone(b.Bytes())
	bad[p.Blobs] ^= 1
	var e *image.Error
	if err := p.Apply(bytes.NewReader(bad), part, &part.Ops[0], m); !errors.As(err, &e) {
		t.Errorf("changed data: %v", err)
	}
	delta := &Operation{Type: SourceCopy}
	var d *DeltaError
	if err := p.Apply(bytes.NewReader(bad), part, delta, m); !errors.As(err, &d) || d.Partition != "system" {
		t.Errorf("an operation of a delta: %v", err)
	}
}

// TestHostile: numbers that do not fit are refused before anything is taken.
func TestHostile(t *testing.T) {
	for name, manifest := range map[string]string{
		"extent beyond the partition": "6a130a04626f6f743a0308802042063204080110ff",
		"data at an impossible place": "6a1f0a04626f6f743a030880204212080010ffffffffffffffffff01180532040" +
			"80010",
		"a partition of 2^63 bytes": "6a130a04626f6f743a0b08ffffffffffffffffff01",
		"a cut message":             "6aff01",
	} {
		m := unhex(t, manifest)
		b := []byte("CrAU\x00\x00\x00\x00\x00\x00\x00\x02")
		b = binary.BigEndian.AppendUint64(b, uint64(len(m)))
		b = append(binary.BigEndian.AppendUint32(b, 0), m...)
		var e *image.Error
		if _, err := Parse(bytes.NewReader(b), int64(len(b))); !errors.As(err, &e) {
			t.Errorf("Parse(bytes.NewReader(b), int64(len(b))): %s: %v; unwanted: !errors.As(err, &e)", name,
				err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(byHand(f))
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := Parse(bytes.NewReader(b), int64(len(b)))
		var e *image.Error
		if err != nil {
			if !errors.As(err, &e) {
				t.Fatalf("%v is not a format error", err)
			}
			return
		}
		for i := range p.Partitions {
			part := &p.Partitions[i]
			if part.Size > 1<<20 {
				continue
			}
			m := &bounded{size: int64(part.Size+p.BlockSize-1) / int64(p.BlockSize) * int64(p.BlockSize),
				t: t}
			for k := range part.Ops {
				p.Apply(bytes.NewReader(b), part, &part.Ops[k], m)
			}
		}
	})
}

// bounded fails when something is written outside a partition.
type bounded struct {
	size int64
	t    *testing.T
}

func (m *bounded) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > m.size {
		m.t.Fatalf("%d bytes written at %d of %d", len(p), off, m.size)
	}
	return len(p), nil
}

func (m *bounded) Zero(off, n int64) error {
	if off < 0 || n < 0 || off+n > m.size {
		m.t.Fatalf("%d bytes made zero at %d of %d", n, off, m.size)
	}
	return nil
}
