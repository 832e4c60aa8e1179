module glenrain

go 1.26.8

require (
	github.com/alecthomas/kong v1.17.0
	github.com/go-fonts/liberation v0.3.3
	github.com/klippa-app/go-pdfium v1.21.4
	github.com/stretchr/testify v1.12.1
	github.com/tetratelabs/wazero v1.12.0
)

require (
	github.com/google/pprof v0.0.0-20261016150608-1facf8f91b50 // indirect
	github.com/google/uuid v1.6.0 // indirect
	github.com/jolestar/go-commons-pool/v2 v2.1.2 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/net v0.61.0 // indirect
	golang.org/x/sync v0.25.0 // indirect
	golang.org/x/sys v0.49.0 // indirect
	golang.org/x/text v0.43.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
)
