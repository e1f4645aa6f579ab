package device

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"

	"jarlid/internal/core/ident"
	"jarlid/internal/core/image/ext4"
	"jarlid/internal/standin/scenario"
)

// vault is what the owner's data is made of on a stand-in: encrypted for real
// in userdata, its key in metadata, wrapped by a secret that only the system
// which made it has. Another system cannot open it, and erasing either
// partition loses it.
type vault struct {
	Setup     bool     `json:"setup"`     // the welcome pages were gone through
	Debugging bool     `json:"debugging"` // switched on in the settings
	Keys      []string `json:"keys"`      // computers the owner allowed
	Accounts  int      `json:"accounts"`  // signed in
	Lock      bool     `json:"lock"`      // the screen is locked with a code
	Brand     string   `json:"brand"`     // whose system made it, where nothing is encrypted
	Apps      []App    `json:"apps,omitempty"`
}

// App is one that the owner installed.
type App struct {
	Name    string   `json:"name"`
	Version int64    `json:"version"`
	Signer  string   `json:"signer"` // fingerprint of its certificate
	Parts   []string `json:"parts,omitempty"`
}

// DataError says that a system cannot read the data.
type DataError struct{ why string }

func (e *DataError) Error() string { return e.why }

const (
	vaultSize  = 64 << 10 // bytes of userdata the vault fills
	keyRecord  = 4096     // bytes of metadata the wrapped key fills
	vaultMagic = "WKEY"
)

// wrapKey is a system's own secret.
func wrapKey(brand string) []byte {
	k := sha256.Sum256([]byte("the key store of " + brand))
	return k[:]
}

func seal(key, plain []byte, size int, magic string) ([]byte, error) {
	b, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	g, err := cipher.NewGCM(b)
	if err != nil {
		return nil, err
	}
	out := make([]byte, size)
	rand.Read(out) // what an encrypted partition looks like
	at := copy(out, magic)
	body := make([]byte, size-at-g.NonceSize()-g.Overhead())
	if len(plain)+4 > len(body) {
		return nil, fmt.Errorf("%d bytes do not fit", len(plain))
	}
	binary.LittleEndian.PutUint32(body, uint32(len(plain)))
	copy(body[4:], plain)
	nonce := out[at : at+g.NonceSize()]
	g.Seal(out[at+g.NonceSize():at+g.NonceSize()], nonce, body, nil)
	return out, nil
}

func unseal(key, b []byte, magic string) ([]byte, error) {
	if string(b[:len(magic)]) != magic {
		return nil, fmt.Errorf("there is none")
	}
	c, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	g, err := cipher.NewGCM(c)
	if err != nil {
		return nil, err
	}
	b = b[len(magic):]
	body, err := g.Open(nil, b[:g.NonceSize()], b[g.NonceSize():], nil)
	if err != nil {
		return nil, err
	}
	n := binary.LittleEndian.Uint32(body)
	return body[4 : 4+n], nil
}

// keyPlace is where the wrapped key lies: in metadata, or on old phones without
// one in the last 16 KiB of userdata.
func (p *Phone) keyPlace() (partition string, off int64) {
	if p.Store.Has("metadata") {
		return "metadata", 0
	}
	return "userdata", p.Store.Sizes["userdata"] - 16<<10
}

// DataPlain is the state of data that is not encrypted.
const DataPlain = "plain"

// DataState says what userdata holds: "erased", "formatted", "encrypted" or, on
// phones that do not encrypt, "plain".
func (p *Phone) DataState() string {
	b, err := p.Store.Head("userdata", vaultSize)
	switch {
	case err != nil:
		return "encrypted"
	case ext4.IsMagic(b):
		if _, err := os.Stat(p.PlainFile(packagesFile)); err == nil {
			return DataPlain
		}
		return "formatted"
	}
	for _, c := range b {
		if c != 0 {
			return "encrypted"
		}
	}
	return "erased"
}

// FormatData leaves an empty file system, as formatting in a recovery does.
func (p *Phone) FormatData() error {
	if err := p.FormatPartition("userdata"); err != nil {
		return err
	}
	if p.Store.Has("metadata") {
		return p.FormatPartition("metadata")
	}
	return nil
}

// FormatPartition makes an empty ext4 file system on a partition.
func (p *Phone) FormatPartition(name string) error {
	b, err := scenario.EmptyData()
	if err != nil {
		return err
	}
	b = bytes.Clone(b)
	before, err := p.Store.Head(name, 2048)
	if err != nil {
		return err
	}
	stampSuper(b[1024:], before[1024:])
	if err := p.Store.Erase(name); err != nil {
		return err
	}
	return p.Store.Put(name, b, 0)
}

// stampSuper gives a new file system's super block the time it was made at, and the checksum over it
// (Documentation/filesystems/ext4/super.rst).
func stampSuper(super, before []byte) {
	super = super[:1024]
	made := binary.LittleEndian.Uint32(before[0x108:])
	binary.LittleEndian.PutUint32(super[0x108:], made+1)     // a second after the one before
	if binary.LittleEndian.Uint32(super[0x64:])&0x400 != 0 { // metadata_csum
		sum := ^crc32.Checksum(super[:0x3fc], crc32.MakeTable(crc32.Castagnoli))
		binary.LittleEndian.PutUint32(super[0x3fc:], sum)
	}
}

// OpenData opens the data for a system; first is true when it was empty and
// has been made again.
func (p *Phone) OpenData(r *Running) (first bool, err error) {
	brand, patch := r.Props["ro.product.brand"], r.Props["ro.build.version.security_patch"]
	if p.Spec.PlainData {
		r.Vault, first, err = p.openPlain(brand)
		return first, err
	}
	if p.DataState() != "encrypted" {
		v, key, err := p.newVault(brand, patch)
		if err != nil {
			return false, err
		}
		r.Vault, r.Key = v, key
		return true, p.SaveVault(v, key)
	}
	part, off := p.keyPlace()
	rec, err := p.Store.Piece(part, off, keyRecord)
	if err != nil {
		return false, &DataError{"its key is gone"}
	}
	key, err := unseal(wrapKey(brand), rec, vaultMagic)
	if err != nil || len(key) <= 32 {
		return false, &DataError{fmt.Sprintf("it is encrypted and %s has no key to it",
			ident.BuildOf(r.Props))}
	}
	// The key is bound to the security patch level it was last used with.
	key, bound := key[:32], string(key[32:])
	if p.Spec.Rollback && patch < bound {
		return false, &DataError{fmt.Sprintf("its key is bound to the patch level %s, and this system has %s",
			bound, patch)}
	}
	if patch > bound {
		if err := p.bindKey(key, brand, patch); err != nil {
			return false, err
		}
	}
	b, err := p.Store.Head("userdata", vaultSize)
	if err != nil {
		return false, err
	}
	plain, err := unseal(key, b, "")
	if err != nil {
		return false, &DataError{"it is damaged"}
	}
	v := &vault{}
	if err := json.Unmarshal(plain, v); err != nil {
		return false, &DataError{"it is damaged"}
	}
	r.Vault, r.Key = v, key
	return false, nil
}

// newVault makes a fresh key, keeps it wrapped for the system of that brand,
// and gives empty data: debugging off, no computer allowed.
func (p *Phone) newVault(brand, patch string) (*vault, []byte, error) {
	key := make([]byte, 32)
	rand.Read(key)
	return &vault{}, key, p.bindKey(key, brand, patch)
}

func (p *Phone) bindKey(key []byte, brand, patch string) error {
	rec, err := seal(wrapKey(brand), append(key[:32:32], patch...), keyRecord, vaultMagic)
	if err != nil {
		return err
	}
	part, off := p.keyPlace()
	return p.Store.Put(part, rec, off)
}

// Where unencrypted data keeps what is installed and what was set; the first is
// where the platform keeps it.
const (
	packagesFile = "system/packages.xml"
	settingsFile = "system/users/0/settings.json"
)

// PlainFile is where a file of data that is not encrypted is kept.
func (p *Phone) PlainFile(name string) string {
	return filepath.Join(p.Store.Overlay("userdata"), filepath.FromSlash(name))
}

// openPlain opens unencrypted data, or makes it again where there is none.
func (p *Phone) openPlain(brand string) (v *vault, first bool, err error) {
	switch p.DataState() {
	case DataPlain:
		v = &vault{}
		b, err := os.ReadFile(p.PlainFile(settingsFile))
		if err == nil {
			err = json.Unmarshal(b, v)
		}
		if err != nil {
			return nil, false, &DataError{"it is damaged"}
		}
		if v.Brand != brand {
			return nil, false, &DataError{
				fmt.Sprintf("the apps and settings of %s are there, which %s does not understand",
					v.Brand, brand)}
		}
		return v, false, nil
	case "formatted":
	default:
		if err := p.FormatPartition("userdata"); err != nil {
			return nil, false, err
		}
	}
	v = &vault{Brand: brand}
	return v, true, p.SaveVault(v, nil)
}

// savePlain keeps unencrypted data, in the folders the platform has.
func (p *Phone) savePlain(v *vault) error {
	set, err := json.Marshal(v)
	if err != nil {
		return err
	}
	list := "<?xml version='1.0' encoding='utf-8' standalone='yes' ?>\n<packages>\n"
	files := map[string]string{settingsFile: string(set),
		"dalvik-cache/arm/system@framework@boot.art": "compiled code\n"}
	for _, a := range v.Apps {
		list += fmt.Sprintf("<package name=%q codePath=\"/data/app/%s\" />\n", a.Name, a.Name)
		files["app/"+a.Name+"/base.apk"] = "the app\n"
		for _, part := range a.Parts {
			files["app/"+a.Name+"/split_"+part+".apk"] = "a part of the app\n"
		}
	}
	files[packagesFile] = list + "</packages>\n"
	for name, text := range files {
		if err := os.MkdirAll(filepath.Dir(p.PlainFile(name)), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(p.PlainFile(name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	// It was mounted: s_mtime and s_mnt_count of the super block say so.
	if err := p.Store.Put("userdata", []byte{0, 0, 0, 0x60}, ext4.SuperblockOffset+44); err != nil {
		return err
	}
	return p.Store.Put("userdata", []byte{1, 0}, ext4.SuperblockOffset+52)
}

// SaveVault writes the data of a system, encrypted with its key.
func (p *Phone) SaveVault(v *vault, key []byte) error {
	if p.Spec.PlainData {
		return p.savePlain(v)
	}
	plain, err := json.Marshal(v)
	if err != nil {
		return err
	}
	for {
		b, err := seal(key, plain, vaultSize, "")
		if err != nil {
			return err
		}
		if !ext4.IsMagic(b) { // which chance would bring once in 65536 times
			return p.Store.Put("userdata", b, 0)
		}
	}
}
