package verify_test

import (
	"bytes"
	"context"
	"fmt"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/verify"
)

// A file is compared with the digest that a list states of it; the digest is the standard's own example
// (FIPS 180-4, "abc").
func ExampleRun() {
	for _, text := range []string{"abc", "abd"} {
		b := []byte(text)
		r := bytes.NewReader(b)
		f := ident.Identify(r, int64(len(b)), "notes.bin", ident.Options{})
		res, err := verify.Run(context.Background(), r, int64(len(b)), f,
			verify.Wish{Stated: []verify.Stated{{From: "SHA256SUMS",
				Sums: []sums.Sum{{Algorithm: sums.SHA256,
					Digest: "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"}}}}})
		fmt.Println(text, res.Has(verify.Damaged), res.Passed, err)
	}
	// Output:
	// abc false [SHA256SUMS] <nil>
	// abd true [] <nil>
}
