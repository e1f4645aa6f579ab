package standintest

import (
	"os"
	"testing"

	"jarlid/internal/standin/scenario"
)

// Main runs the tests of a package that has stand-ins in them; it is what TestMain does.
func Main(m *testing.M) {
	Light()
	os.Exit(m.Run())
}

// Light makes stand-ins cheap to run by the hundred: their images are small and made once, and temporary
// files are kept in memory where the system has a file system there with enough space.
func Light() {
	scenario.Keep()
	scenario.Small(4)
	if memoryFree() >= leastMemory {
		_ = os.Setenv("TMPDIR", memoryDir) // otherwise they are on the disk
	}
}

// leastMemory is the free space it needs there, in bytes: a hundred stand-ins at a time take a tenth of it.
const leastMemory = 8 << 30
