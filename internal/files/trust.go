package files

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image"
	"jarlid/internal/core/image/boot"
	"jarlid/internal/core/image/ota"
	"jarlid/internal/core/image/sums"
	"jarlid/internal/core/image/zipsig"
	"jarlid/internal/core/proof"
)

// Stated is digests, and where they come from.
type Stated struct {
	From  string
	List  []sums.Sum
	Loose bool // a pasted digest: for whatever file
	Aside bool // a list that is in a file's folder, and may be about others alone
}

// NotSumsError is a word that names neither a file of digests nor a digest.
type NotSumsError struct{ Word string }

// Error names the word.
func (e *NotSumsError) Error() string {
	return fmt.Sprintf("%q is neither a file of digests nor a digest", e.Word)
}

// ReadSums reads digests: pasted ones, and files of them. Errors: *NotSumsError.
func ReadSums(against []string) ([]Stated, error) {
	var out []Stated
	for _, s := range against {
		if d, ok := sums.ParsePasted(s); ok {
			if _, err := os.Stat(s); err != nil {
				out = append(out, Stated{From: "the digest given", List: []sums.Sum{d}, Loose: true})
				continue
			}
		}
		f, size, err := Open(Unquote(s))
		if errors.Is(err, fs.ErrNotExist) {
			return nil, &NotSumsError{s}
		}
		if err != nil {
			return nil, err
		}
		b, err := image.ReadAt(s, f, size, 0, min(size, 16<<20))
		f.Close()
		if err != nil {
			return nil, err
		}
		list := sums.Parse(sums.Text(b))
		if len(list) == 0 {
			return nil, fmt.Errorf("%s holds no digests in a form Jar Lid knows", s)
		}
		out = append(out, Stated{From: filepath.Base(s), List: list})
	}
	return out, nil
}

// Listed gives the paths of the files that a file of digests lists, which are where the file itself is; a
// digest without a name is that of the file whose name its own continues (rom.zip.sha256). Of a file that
// lists none, or could not be read, it gives nothing.
func Listed(list string) (paths []string, of map[string]Stated) {
	b, err := ReadSmall(list, maxManifest)
	if err != nil {
		return nil, nil
	}
	if f := ident.Identify(bytes.NewReader(b), int64(len(b)), list, ident.Options{}); f.Kind != ident.Sums {
		return nil, nil
	}
	all := sums.Parse(sums.Text(b))
	of = map[string]Stated{}
	for _, d := range all {
		name := filepath.FromSlash(strings.ReplaceAll(d.Name, `\`, "/"))
		switch ext := filepath.Ext(list); {
		case name == "" && len(all) == 1 && slices.Contains(neighbours, strings.ToLower(ext)):
			name = strings.TrimSuffix(filepath.Base(list), ext)
		case name == "":
			continue
		case !filepath.IsLocal(name):
			name = filepath.Base(name) // where its author had it
		}
		path := filepath.Join(filepath.Dir(list), name)
		s, double := of[path]
		if !double {
			s = Stated{From: filepath.Base(list), Loose: true}
			paths = append(paths, path)
		}
		s.List = append(s.List, d)
		of[path] = s
	}
	return paths, of
}

// Beside reads the digests that are beside a file. unread is told of those that are there and
// can't be read.
func Beside(path string, unread func(error)) []Stated {
	var out []Stated
	if s, err := properties(path); err != nil {
		unread(err)
	} else if s != nil {
		out = append(out, *s)
	}
	for _, ext := range neighbours {
		b, err := ReadSmall(path+ext, maxManifest)
		if err != nil {
			if !errors.Is(err, fs.ErrNotExist) {
				unread(err)
			}
			continue
		}
		s := Stated{From: filepath.Base(path + ext)}
		if d, ok := sums.ParseDigest(sums.Text(b)); ok {
			s.List, s.Loose = []sums.Sum{d}, true
		} else {
			s.List = sums.Parse(sums.Text(b))
		}
		out = append(out, s)
	}
	for _, name := range listings {
		b, err := ReadSmall(filepath.Join(filepath.Dir(path), name), maxManifest)
		if err != nil {
			if !errors.Is(err, fs.ErrNotExist) {
				unread(err)
			}
			continue
		}
		list := slices.DeleteFunc(sums.Parse(sums.Text(b)), func(s sums.Sum) bool { return s.Name == "" })
		out = append(out, Stated{From: name, List: list, Aside: true})
	}
	return out
}

// properties reads what payload_properties.txt states of the payload it is beside: FILE_HASH,
// its SHA-256 in base64 (brillo_update_payload in the platform's update_engine); nil where there
// is none.
func properties(payload string) (*Stated, error) {
	if filepath.Base(payload) != "payload.bin" {
		return nil, nil
	}
	b, err := ReadSmall(filepath.Join(filepath.Dir(payload), ota.PropertiesName), maxManifest)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(sums.Text(b)) {
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "FILE_HASH="); ok {
			sum, err := base64.StdEncoding.DecodeString(text)
			if err != nil || len(sum) != sha256.Size {
				return nil, fmt.Errorf("%s beside it states no digest that could be read: %q",
					ota.PropertiesName, text)
			}
			return &Stated{From: ota.PropertiesName, Loose: true,
				List: []sums.Sum{{Algorithm: sums.SHA256, Digest: hex.EncodeToString(sum)}}}, nil
		}
	}
	return nil, nil
}

// neighbours are the endings under which a file's digests are beside it.
var neighbours = []string{".sha256", ".sha256sum", ".sha512", ".sha1", ".md5", ".md5sum"}

// listings are the names under which the digests of several files are beside them.
var listings = []string{"SHA256SUMS", "SHA512SUMS", "SHA1SUMS", "MD5SUMS", "SHA256SUMS.txt", "sha256sums.txt",
	"md5sums.txt", "checksums.txt"}

// ReadTrusted reads certificates, and those a recovery image carries.
func ReadTrusted(signers []string, recovery string) (map[string][]*x509.Certificate, error) {
	out := map[string][]*x509.Certificate{}
	for _, path := range signers {
		b, err := ReadSmall(Unquote(path), maxManifest)
		if err != nil {
			return nil, err
		}
		certs, err := zipsig.ParseCerts(b)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		out[filepath.Base(path)] = certs
	}
	if recovery == "" {
		return out, nil
	}
	f, size, err := Open(Unquote(recovery))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	certs, err := recoveryCerts(f, size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", recovery, err)
	}
	out[filepath.Base(recovery)] = certs
	return out, nil
}

// ReadPackage reads and verifies an app package. Errors: *MissingError, *image.Error.
func ReadPackage(ctx context.Context, path string) (*proof.Package, error) {
	path = Unquote(path)
	f, size, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	p, err := proof.ReadPackage(ctx, f, size, filepath.Base(path))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return p, nil
}

// recoveryRamdisk finds the ramdisk of a recovery: a boot image's, or the
// fragment of a vendor boot image.
func recoveryRamdisk(r io.ReaderAt, size int64) (io.Reader, error) {
	if v, err := boot.ParseVendor(r, size); err == nil {
		f := v.Recovery()
		if f == nil {
			return nil, errors.New("this vendor boot image holds no recovery")
		}
		return io.NewSectionReader(r, f.Offset, f.Size), nil
	}
	m, err := boot.Parse(r, size)
	if err != nil {
		return nil, err
	}
	return m.Open(r, "ramdisk"), nil
}

func recoveryCerts(r io.ReaderAt, size int64) ([]*x509.Certificate, error) {
	src, err := recoveryRamdisk(r, size)
	if err != nil {
		return nil, err
	}
	rd, err := boot.ReadRamdisk(src, zipsig.KeysFiles...)
	if err != nil {
		return nil, err
	}
	keys, ok, err := zipsig.KeysOf(rd.Wanted)
	if !ok && err == nil {
		return nil, fmt.Errorf("its ramdisk has neither %s nor %s, so it trusts no key that could be read",
			zipsig.KeysFile, zipsig.OldKeysFile)
	}
	return keys, err
}
