package wrap

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
	"slices"

	"jarlid/internal/core/image"
)

// XzBlock is one of an xz file's blocks, which can be extracted without the others: files packed in
// parallel have many.
type XzBlock struct {
	At   int64 // where its contents begin in what the whole file extracts to, in bytes
	Size int64 // bytes it extracts to

	r        io.ReaderAt
	from     int64 // where it begins in the file
	unpadded int64 // its length there without the padding, as the index states it
	flags    [2]byte
}

// The parts of an xz file (The .xz File Format 1.2.1, chapters 2 and 4).
const (
	xzEdge     = 12 // length of a stream's header, and of its footer
	xzMost     = 1 << 20
	xzMaxIndex = 64 << 20
)

// XzBlocks lists the blocks of all streams of the xz file in r, in their order, by the indexes at
// the streams' ends. ok is false where the file can't be followed from its end: it is read from its
// start then, and what is wrong with it is found there.
func XzBlocks(r io.ReaderAt, size int64) (list []XzBlock, ok bool) {
	for end := size; end > 0; {
		b, err := image.ReadAt("xz", r, size, max(0, end-xzEdge), min(end, xzEdge))
		if err != nil || end%4 != 0 {
			return nil, false
		}
		if binary.LittleEndian.Uint32(b[len(b)-4:]) == 0 { // padding, four bytes at a time
			end -= 4
			continue
		}
		blocks, begin, ok := xzStream(r, size, end, b)
		if !ok || len(list)+len(blocks) > xzMost {
			return nil, false
		}
		list = append(list, blocks...) // the last one first, for now
		end = begin
	}
	slices.Reverse(list)
	at := int64(0)
	for i := range list {
		list[i].At = at
		if list[i].Size > 1<<62-at {
			return nil, false
		}
		at += list[i].Size
	}
	return list, len(list) > 0
}

// xzStream lists the blocks of the stream that ends at end with the given footer, the last one
// first, and says where the stream begins.
func xzStream(r io.ReaderAt, size, end int64, foot []byte) (list []XzBlock, begin int64, ok bool) {
	le := binary.LittleEndian
	if len(foot) < xzEdge || string(foot[10:]) != "YZ" || crc32.ChecksumIEEE(foot[4:10]) != le.Uint32(foot) {
		return nil, 0, false
	}
	length := (int64(le.Uint32(foot[4:])) + 1) * 4
	if length > xzMaxIndex || length > end-2*xzEdge {
		return nil, 0, false
	}
	index, err := image.ReadAt("xz", r, size, end-xzEdge-length, length)
	if err != nil || index[0] != 0 || crc32.ChecksumIEEE(index[:length-4]) != le.Uint32(index[length-4:]) {
		return nil, 0, false
	}
	p := index[1 : length-4]
	vli := func() int64 {
		n := uint64(0)
		for i := 0; i < 9 && len(p) > 0; i++ {
			c := p[0]
			p = p[1:]
			n |= uint64(c&0x7f) << (7 * i)
			if c < 0x80 {
				return int64(n)
			}
		}
		return -1
	}
	n := vli()
	if n < 0 || n > xzMost || n > int64(len(p)) {
		return nil, 0, false
	}
	at, total := int64(0), int64(0)
	for range n {
		b := XzBlock{r: r, unpadded: vli(), Size: vli(), from: at, flags: [2]byte{foot[8], foot[9]}}
		if b.unpadded <= 0 || b.unpadded > end || b.Size < 0 || b.Size > 1<<62-total {
			return nil, 0, false
		}
		at, total = at+image.Align(b.unpadded, 4), total+b.Size
		list = append(list, b)
	}
	begin = end - xzEdge - length - at - xzEdge
	if begin < 0 {
		return nil, 0, false
	}
	head, err := image.ReadAt("xz", r, size, begin, xzEdge)
	if err != nil || Detect(head) != Xz || head[6] != foot[8] || head[7] != foot[9] {
		return nil, 0, false
	}
	for i := range list {
		list[i].from += begin + xzEdge
	}
	slices.Reverse(list)
	return list, begin, true
}

// Open extracts the block: as a stream of its own, whose header and index are made around it, so
// that its check and its sizes are verified as ever. memory as for NewFile.
func (b XzBlock) Open(memory int64) (io.ReadCloser, error) {
	return NewFile(Xz, io.MultiReader(bytes.NewReader(xzHead(b.flags)),
		io.NewSectionReader(b.r, b.from, image.Align(b.unpadded, 4)),
		bytes.NewReader(xzTail(b.flags, 1, xzRecord(nil, b.unpadded, b.Size)))), memory)
}

// xzHead is the header of a stream with these flags.
func xzHead(flags [2]byte) []byte {
	head := append([]byte{0xfd, '7', 'z', 'X', 'Z', 0}, flags[:]...)
	return binary.LittleEndian.AppendUint32(head, crc32.ChecksumIEEE(flags[:]))
}

// xzRecord adds what an index says of a block.
func xzRecord(records []byte, unpadded, size int64) []byte {
	return binary.AppendUvarint(binary.AppendUvarint(records, uint64(unpadded)), uint64(size))
}

// xzTail is what ends a stream of so many blocks: its index, of their records, and its footer.
func xzTail(flags [2]byte, count uint64, records []byte) []byte {
	le := binary.LittleEndian
	index := append(binary.AppendUvarint([]byte{0}, count), records...)
	for len(index)%4 != 0 {
		index = append(index, 0)
	}
	index = le.AppendUint32(index, crc32.ChecksumIEEE(index))
	foot := append(le.AppendUint32(nil, uint32(len(index)/4-1)), flags[:]...)
	tail := append(le.AppendUint32(index, crc32.ChecksumIEEE(foot)), foot...)
	return append(tail, 'Y', 'Z')
}
