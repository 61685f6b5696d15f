module keenlodge

go 1.26.8

require (
	github.com/diskfs/go-diskfs v1.9.4
	github.com/klauspost/compress v1.20.4
	github.com/stretchr/testify v1.12.1
	github.com/zeebo/blake3 v0.2.4
)

require (
	github.com/google/uuid v1.6.0 // indirect
	github.com/klauspost/cpuid/v2 v2.0.12 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/sync v0.25.0 // indirect
)
