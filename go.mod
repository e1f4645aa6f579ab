module jarlid

go 1.26.0

require (
	github.com/andybalholm/brotli v1.2.8
	github.com/bodgit/sevenzip v1.6.5
	github.com/dsnet/compress v0.0.1
	github.com/gofrs/flock v0.13.1
	github.com/inconshreveable/mousetrap v1.1.0
	github.com/klauspost/compress v1.20.3
	github.com/mattn/go-runewidth v0.0.24
	github.com/mikelolasagasti/xz v1.0.1
	github.com/pierrec/lz4/v4 v4.1.33
	github.com/smallstep/pkcs7 v0.2.3
	github.com/spf13/cobra v1.10.2
	github.com/spf13/pflag v1.0.9
	github.com/ulikunitz/xz v0.5.15
	github.com/vbauerster/mpb/v8 v8.9.3
	go.bug.st/serial v1.8.0
	go.yaml.in/yaml/v3 v3.0.6
	golang.org/x/crypto v0.59.0
	golang.org/x/sys v0.50.0
	golang.org/x/term v0.48.0
	google.golang.org/protobuf v1.36.12
	mvdan.cc/sh/v3 v3.14.1
)

require (
	github.com/VividCortex/ewma v1.2.0 // indirect
	github.com/acarl005/stripansi v0.0.0-20180116102854-5a71ef0e047d // indirect
	github.com/bodgit/plumbing v1.3.0 // indirect
	github.com/bodgit/windows v1.0.1 // indirect
	github.com/clipperhouse/uax29/v2 v2.7.0 // indirect
	github.com/cpuguy83/go-md2man/v2 v2.0.6 // indirect
	github.com/hashicorp/golang-lru/v2 v2.0.7 // indirect
	github.com/russross/blackfriday/v2 v2.1.0 // indirect
	github.com/spf13/afero v1.15.0 // indirect
	github.com/stangelandcl/ppmd v0.1.1 // indirect
	go4.org v0.0.0-20260112195520-a5071408f32f // indirect
	golang.org/x/text v0.44.0 // indirect
)
