package sparse_test

import (
	"bytes"
	"fmt"
	"io"

	"jarlid/internal/core/image/sparse"
)

// A reader gives the whole image, as a partition would hold it, and says of each chunk
// what it is.
func ExampleNewReader() {
	var img bytes.Buffer
	img.Write([]byte{0x3a, 0xff, 0x26, 0xed, 1, 0, 0, 0, 28, 0, 12, 0, 0, 16, 0, 0, 3, 0, 0, 0, 2, 0, 0, 0,
		0, 0, 0, 0})
	img.Write([]byte{0xc1, 0xca, 0, 0, 1, 0, 0, 0, 12, 16, 0, 0}) // RAW, one block
	img.Write(bytes.Repeat([]byte("tide"), 1024))
	img.Write([]byte{0xc3, 0xca, 0, 0, 2, 0, 0, 0, 12, 0, 0, 0}) // DON'T CARE, two blocks

	r, err := sparse.NewReader(bytes.NewReader(img.Bytes()), int64(img.Len()))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println("bytes on a partition:", r.Header.Size())
	for {
		c, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			fmt.Println(err)
			return
		}
		fmt.Printf("%#x: %d blocks\n", c.Type, c.Blocks)
	}
	// Output:
	// bytes on a partition: 12288
	// 0xcac1: 1 blocks
	// 0xcac3: 2 blocks
}
