module fitcheck

go 1.26.0

require (
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/agext/levenshtein v1.2.3 // indirect
	github.com/bmatcuk/doublestar/v4 v4.10.4 // indirect
	github.com/google/renameio/v2 v2.0.2 // indirect
	github.com/jedib0t/go-pretty/v6 v6.8.3 // indirect
	github.com/klauspost/compress v1.20.3 // indirect
	github.com/stretchr/testify v1.12.1 // indirect
	go.yaml.in/yaml/v3 v3.0.6 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.41.0 // indirect
	golang.org/x/sync v0.23.0 // indirect
	golang.org/x/sys v0.49.0 // indirect
	golang.org/x/term v0.47.0 // indirect
	golang.org/x/tools v0.51.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
