module github.com/cloudsoda/go-smb2

go 1.25

require (
	github.com/cloudsoda/sddl v0.0.0-20250224235906-926454e91efc
	github.com/geoffgarside/ber v1.1.0
	github.com/jcmturner/gokrb5/v8 v8.4.4
	golang.org/x/crypto v0.9.0
)

require (
	github.com/hashicorp/go-uuid v1.0.3 // indirect
	github.com/jcmturner/aescts/v2 v2.0.0 // indirect
	github.com/jcmturner/dnsutils/v2 v2.0.0 // indirect
	github.com/jcmturner/gofork v1.7.6 // indirect
	github.com/jcmturner/goidentity/v6 v6.0.1 // indirect
	github.com/jcmturner/rpc/v2 v2.0.3 // indirect
	golang.org/x/net v0.10.0 // indirect
)
