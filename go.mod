module fitcheck

go 1.26.0

require (
	github.com/CycloneDX/cyclonedx-go v0.12.0
	github.com/ProtonMail/go-crypto v1.5.2
	github.com/agext/levenshtein v1.2.3
	github.com/anchore/go-lzo v0.1.0
	github.com/bmatcuk/doublestar/v4 v4.10.4
	github.com/bodgit/sevenzip v1.6.5
	github.com/diskfs/go-diskfs v1.9.4
	github.com/google/renameio/v2 v2.0.2
	github.com/hashicorp/golang-lru/v2 v2.0.7
	github.com/jedib0t/go-pretty/v6 v6.8.3
	github.com/klauspost/compress v1.20.3
	github.com/ledongthuc/pdf v0.0.0-20260907135840-6c8c28e0e8a0
	github.com/maruel/natural v1.3.0
	github.com/pierrec/lz4/v4 v4.1.33
	github.com/pkg/sftp v1.13.12
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/schollz/progressbar/v3 v3.19.1
	github.com/smallstep/pkcs7 v0.2.3
	github.com/stretchr/testify v1.12.1
	github.com/therootcompany/xz v1.0.1
	github.com/ulikunitz/xz v0.5.17
	go.yaml.in/yaml/v3 v3.0.6
	golang.org/x/crypto v0.59.0
	golang.org/x/net v0.62.0
	golang.org/x/sync v0.25.0
	golang.org/x/sys v0.50.0
	golang.org/x/term v0.48.0
	golang.org/x/text v0.44.0
)

require (
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/andybalholm/brotli v1.2.2 // indirect
	github.com/bodgit/plumbing v1.3.0 // indirect
	github.com/bodgit/windows v1.0.1 // indirect
	github.com/cloudflare/circl v1.6.3 // indirect
	github.com/djherbis/times v1.6.0 // indirect
	github.com/kr/fs v0.1.0 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	github.com/mitchellh/colorstring v0.0.0-20190213212951-d06e56a500db // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	github.com/spf13/afero v1.15.0 // indirect
	github.com/stangelandcl/ppmd v0.1.1 // indirect
	go4.org v0.0.0-20260112195520-a5071408f32f // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
