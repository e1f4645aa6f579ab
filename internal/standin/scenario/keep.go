package scenario

import (
	"maps"
	"slices"
	"sync"
	"sync/atomic"
)

// keeping says that what was made is kept. A program makes a phone's images once; tests
// make the same ones over and over.
var keeping atomic.Bool

// Keep has everything made once a process from now on: templates and whole sets. Whoever
// gets images must not write into them then.
func Keep() { keeping.Store(true) }

// small is what bulk is divided by; 0 where images are whole.
var small atomic.Int64

// Small has images made with an nth of what makes them large (n is 4 or a multiple), for tests that write and
// read each of them a hundred times: kernels, programs, radios and systems. What is read out of them stays.
func Small(n int) { small.Store(int64(n)) }

// leastBulk is what has to fit: a kernel's configuration comes after 128 KiB.
const leastBulk = 160 << 10

// bulk gives how many of n bytes are made.
func bulk(n int) int {
	if d := int(small.Load()); d > 0 {
		return max(n/d, min(n, leastBulk))
	}
	return n
}

// filled is of how many blocks that stand for bulk one is filled: small templates have a quarter of them.
func filled() int { return max(int(small.Load())/4, 1) }

// tiny maps templates to the ones used in their place where images are small.
var tiny = map[string]string{"system": "tiny", "small": "tiny", "restoring": "tinyrestoring"}

// cache keeps what was made, by what it was made of. Two that ask for the same at the same
// time may both make it.
type cache[K comparable, V any] struct{ made sync.Map }

func (c *cache[K, V]) get(k K, make func() (V, error)) (V, error) {
	if !keeping.Load() {
		return make()
	}
	if v, ok := c.made.Load(k); ok {
		return v.(V), nil
	}
	v, err := make()
	if err == nil {
		c.made.Store(k, v)
	}
	return v, err
}

// what is what a set of images, or a package of them, is made of.
type what struct {
	form string
	os   OS
	p    Phone
}

var (
	unpacked cache[string, []byte] // templates as they are in the program, without their packing
	sets     cache[what, map[string][]byte]
	packages cache[what, []byte]
)

// Images makes all images of a phone's firmware by partition, sealed: vbmeta knows them.
func Images(o OS, p Phone) (map[string][]byte, error) {
	set, err := sets.get(what{"", o, p}, func() (map[string][]byte, error) { return makeImages(o, p) })
	if err != nil {
		return nil, err
	}
	set = maps.Clone(set)
	for name, b := range set {
		set[name] = slices.Clip(b) // who appends doesn't write into what others have
	}
	return set, nil
}
