package scenario

import (
	"archive/zip"
	"bytes"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"maps"
	"math/big"
	"slices"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/smallstep/pkcs7"

	"jarlid/internal/core/script"
)

// when is the time in everything the scenario packs.
var when = time.Date(2026, 5, 12, 6, 30, 0, 0, time.UTC)

// certificate makes the certificate of one of the made-up manufacturers.
func certificate(name string) (*x509.Certificate, error) {
	key, err := Key(name)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(int64(len(name))),
		Subject:   pkix.Name{CommonName: name + " releases", Organization: []string{"Scenario"}},
		NotBefore: when, NotAfter: when.AddDate(30, 0, 0), SignatureAlgorithm: x509.SHA256WithRSA}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// keyring is the zip in which a recovery keeps the certificates it trusts.
func keyring(names ...string) ([]byte, error) {
	var files []member
	for _, n := range names {
		c, err := certificate(n)
		if err != nil {
			return nil, err
		}
		files = append(files,
			member{n + ".x509.pem", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})})
	}
	return pack(zip.Store, files...)
}

// member is one file of a zip.
type member struct {
	name string
	body []byte
}

// pack makes a zip, the same bytes each time.
func pack(method uint16, files ...member) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, f := range files {
		w, err := z.CreateHeader(&zip.FileHeader{Name: f.name, Method: method, Modified: when})
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(f.body); err != nil {
			return nil, err
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// library makes the head of a program for a processor, of n bytes: e_type is a shared
// object (elf.h).
func library(abi string, n int) []byte {
	b := make([]byte, n)
	copy(b, "\x7fELF\x02\x01\x01")
	b[16], b[18] = 3, machines[abi]
	return b
}

// sign signs a whole package: everything but its comment, which then holds the
// signature and, in its last six bytes, where that begins and how long the
// comment is (verifier.cpp in the platform's recovery).
func sign(pkg []byte, name string) ([]byte, error) {
	key, err := Key(name)
	if err != nil {
		return nil, err
	}
	cert, err := certificate(name)
	if err != nil {
		return nil, err
	}
	if n := len(pkg); n < 22 || binary.LittleEndian.Uint16(pkg[n-2:]) != 0 {
		return nil, fmt.Errorf("only a zip without a comment can be signed")
	}
	pkg = pkg[:len(pkg)-2]
	s, err := pkcs7.NewSignedData(pkg)
	if err != nil {
		return nil, err
	}
	s.SetDigestAlgorithm(pkcs7.OIDDigestAlgorithmSHA256)
	if err := s.SignWithoutAttr(cert, key, pkcs7.SignerInfoConfig{}); err != nil {
		return nil, err
	}
	s.Detach()
	der, err := s.Finish()
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	comment := append(der, make([]byte, 6)...)
	le.PutUint16(comment[len(der):], uint16(len(comment)))
	comment[len(der)+2], comment[len(der)+3] = 0xff, 0xff
	le.PutUint16(comment[len(der)+4:], uint16(len(comment)))
	return append(le.AppendUint16(bytes.Clone(pkg), uint16(len(comment))), comment...), nil
}

// Addon is an add-on package.
type Addon struct {
	Name    string // of the folder it adds
	ABI     string // of its library; "" for none
	Release string // it demands; "" for any
	Device  string // it demands; "" for any
	Signer  string // "" for none
}

// The program of a package, which recoveries that read its script do not run.
const (
	updateBinary = "META-INF/com/google/android/update-binary"
	updateText   = "#!/sbin/sh\n# the script is read by the recovery\n"
)

// Machines of ELF files (e_machine in elf.h) by the platform's names.
var machines = map[string]byte{"arm64-v8a": 183, "armeabi-v7a": 40, "x86_64": 62, "x86": 3}

// Package makes the add-on's zip: an update script and the files it puts into
// the system.
func (a Addon) Package() ([]byte, error) {
	text := ""
	if a.Device != "" {
		text += fmt.Sprintf("assert(getprop(\"ro.product.device\") == %q || abort(\"this package is for "+
			"%s\"););\n", a.Device, a.Device)
	}
	if a.Release != "" {
		text += fmt.Sprintf("assert(getprop(\"ro.build.version.release\") == %q || abort(\"this package is "+
			"for release %s\"););\n", a.Release, a.Release)
	}
	text += fmt.Sprintf("ui_print(\"Adding %s\");\nmount(\"ext4\", \"EMMC\", "+
		"\"/dev/block/by-name/system\", \"/system\");\n"+
		"package_extract_dir(\"system\", \"/system\");\nunmount(\"/system\");\n", a.Name)
	files := []member{{script.Name, []byte(text)}, {updateBinary, []byte(updateText)},
		{"system/product/app/" + a.Name + "/" + a.Name + ".txt", []byte("what " + a.Name + " does\n")}}
	if a.ABI != "" {
		files = append(files, member{"system/product/app/" + a.Name + "/lib/" + a.ABI + "/libcount.so",
			library(a.ABI, 4096)})
	}
	pkg, err := pack(zip.Deflate, files...)
	if err != nil || a.Signer == "" {
		return pkg, err
	}
	return sign(pkg, a.Signer)
}

// The add-ons of the scenario.
var (
	Shoreline  = Addon{Name: "ShorelineApps", ABI: "arm64-v8a", Release: "14", Signer: "tideline"}
	Countsheet = Addon{Name: "Countsheet", Release: "14", Signer: "saltmarsh"}
)

// trusted names the keys a recovery has; Tideline has none, and asks for none.
func (k RecoveryKind) trusted() []string {
	switch k.Name {
	case SaltmarshRecovery.Name:
		return []string{"saltmarsh"}
	case StockRecovery.Name:
		return []string{"wickerlight"}
	}
	return nil
}

// BlockPackage makes a package for a phone with one slot: block lists of the
// systems, brotli-compressed or plain, and images, put in place by an update script.
func BlockPackage(o OS, p Phone, packed bool) ([]byte, error) {
	form := "blocks"
	if packed {
		form = "packed-blocks"
	}
	return packages.get(what{form, o, p}, func() ([]byte, error) { return makeBlockPackage(o, p, packed) })
}

func makeBlockPackage(o OS, p Phone, packed bool) ([]byte, error) {
	set, err := Images(o, p)
	if err != nil {
		return nil, err
	}
	// boot and vendor_boot have the kernel and its modules too.
	if home := p.RecoveryPartition(); home != "boot" && home != "vendor_boot" {
		delete(set, home)
	}
	text := fmt.Sprintf("assert(getprop(\"ro.product.device\") == %q || getprop(\"ro.build.product\") == "+
		"%q || abort(\"this package is for %s\"););\nui_print(\"Installing %s\");\n",
		p.Device, p.Device, p.Device, o.Name)
	files := map[string][]byte{updateBinary: []byte(updateText),
		"META-INF/com/android/metadata": fmt.Appendf(nil,
			"ota-type=BLOCK\npost-build=%s\npost-sdk-level=%s\npost-security-patch-level=%s\npost-timesta"+
				"mp=%d\npre-device=%s\n",
			o.Fingerprint(p.Device), o.SDK, o.Patch, when.Unix(), p.Device)}
	for _, name := range slices.Sorted(maps.Keys(set)) {
		b := set[name]
		if !slices.Contains(trees, name) {
			files[name+".img"] = b
			text += fmt.Sprintf("package_extract_file(\"%s.img\", \"/dev/block/by-name/%s\");\n", name, name)
			continue
		}
		const block = 4096
		data := append(b[:len(b):len(b)], make([]byte, -len(b)&(block-1))...)
		n := len(data) / block
		files[name+".transfer.list"] = fmt.Appendf(nil, "4\n%d\n0\n0\nerase 2,0,%d\nnew 2,0,%d\n", n, n, n)
		files[name+".patch.dat"] = nil
		dat := name + ".new.dat"
		if packed {
			var out bytes.Buffer
			w := brotli.NewWriterLevel(&out, 1)
			if _, err := w.Write(data); err != nil {
				return nil, err
			}
			if err := w.Close(); err != nil {
				return nil, err
			}
			dat, data = dat+".br", out.Bytes()
		}
		files[dat] = data
		text += fmt.Sprintf("block_image_update(\"/dev/block/by-name/%s\", "+
			"package_extract_file(\"%s.transfer.list\"), \"%s\", \"%s.patch.dat\") ||\n  abort(\"%s could "+
			"not be written\");\n",
			name, name, dat, name, name)
	}
	files[script.Name] = []byte(text)
	var list []member
	for _, name := range slices.Sorted(maps.Keys(files)) {
		list = append(list, member{name, files[name]})
	}
	pkg, err := pack(zip.Deflate, list...)
	if err != nil {
		return nil, err
	}
	return sign(pkg, o.key)
}
