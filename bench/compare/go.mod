module sternledger/bench/compare

go 1.26

require github.com/go-ldap/ldif v0.0.0-20250910174327-aa3bc3095c92

require (
	github.com/go-asn1-ber/asn1-ber v1.4.1 // indirect
	github.com/go-ldap/ldap/v3 v3.1.7 // indirect
)
