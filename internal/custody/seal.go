package custody

import (
	"bytes"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base32"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"sternledger/internal/ledger"

	"golang.org/x/crypto/ssh"
)

// sealBytes is how much of an entry's hash a seal holds: 80 bits.
const sealBytes = 10

// SealOf is the short fingerprint of the ledger up to an entry: its number,
// and the beginning of its hash in base 32 (RFC 4648).
func SealOf(e *ledger.Entry) string {
	hash, err := hex.DecodeString(e.Hash)
	if err != nil || len(hash) < sealBytes {
		return ""
	}
	text := base32.StdEncoding.EncodeToString(hash[:sealBytes])
	groups := []string{fmt.Sprint(e.Seq)}
	for ; len(text) > 0; text = text[4:] {
		groups = append(groups, text[:4])
	}
	return strings.Join(groups, "-")
}

// Seal returns the seal of the last entry.
func (e *Engagement) Seal() (string, error) {
	entries, err := e.Ledger.Entries()
	if err != nil {
		return "", err
	}
	if len(entries) == 0 {
		return "", errors.New("the ledger has no entries")
	}
	return SealOf(&entries[len(entries)-1]), nil
}

// CompareSeal holds a seal that was written down against the ledger.
func (e *Engagement) CompareSeal(v *Verified, seal string) error {
	given := seal
	seal = strings.ToUpper(strings.TrimSpace(seal))
	number, rest, ok := strings.Cut(seal, "-")
	seq, err := strconv.ParseInt(number, 10, 64)
	if plain := strings.ReplaceAll(rest, "-", ""); !ok || err != nil || len(plain) != 16 {
		return fmt.Errorf("--seal %q: expected a seal such as \"12-ABCD-EFGH-IJKL-MNOP\"", given)
	}
	v.Seal = seal
	entry, err := e.Ledger.Entry(seq)
	switch {
	case err != nil:
		v.fail(seq, "the seal names it, and the ledger ends before it: entries were removed")
	case SealOf(&entry) != seal:
		v.fail(seq, "the seal is not that of the entry, which is %s: another history was written", SealOf(&entry))
	}
	v.Since = v.Entries - int(seq)
	return nil
}

// Signatures are in the format of OpenSSH (PROTOCOL.sshsig), with Ed25519 keys
// only, over the seal and a line end.
const (
	sigMagic     = "SSHSIG"
	sigNamespace = "sternledger"
	sigHash      = "sha512"
	sigPEM       = "SSH SIGNATURE"
)

type sigBlob struct {
	Magic     [6]byte
	Version   uint32
	PublicKey string
	Namespace string
	Reserved  string
	Hash      string
	Signature string
}

// signed is what is really signed: the message's hash with its context.
func signed(message []byte) []byte {
	sum := sha512.Sum512(message)
	return ssh.Marshal(struct {
		Magic                           [6]byte
		Namespace, Reserved, Hash, Data string
	}{[6]byte([]byte(sigMagic)), sigNamespace, "", sigHash, string(sum[:])})
}

// SignSeal signs a seal with a private key in OpenSSH's format. passphrase is
// asked for only where the key has one.
func SignSeal(seal, keyFile string, passphrase func() ([]byte, error)) ([]byte, error) {
	data, err := os.ReadFile(keyFile)
	if err != nil {
		return nil, fmt.Errorf("--sign: %w", err)
	}
	signer, err := ssh.ParsePrivateKey(data)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		word, asked := passphrase()
		if asked != nil {
			return nil, fmt.Errorf("--sign %s: %w", keyFile, asked)
		}
		signer, err = ssh.ParsePrivateKeyWithPassphrase(data, word)
	}
	if err != nil {
		return nil, fmt.Errorf("--sign %s: %w; expected a private key as ssh-keygen writes it", keyFile, err)
	}
	if signer.PublicKey().Type() != ssh.KeyAlgoED25519 {
		return nil, fmt.Errorf("--sign %s: a key of type %s; expected Ed25519 (ssh-keygen -t ed25519)", keyFile, signer.PublicKey().Type())
	}
	sig, err := signer.Sign(rand.Reader, signed([]byte(seal+"\n")))
	if err != nil {
		return nil, err
	}
	blob := ssh.Marshal(sigBlob{[6]byte([]byte(sigMagic)), 1, string(signer.PublicKey().Marshal()), sigNamespace, "", sigHash,
		string(ssh.Marshal(sig))})
	return pem.EncodeToMemory(&pem.Block{Type: sigPEM, Bytes: blob}), nil
}

// CheckSignature holds a signature on a seal against a public key as OpenSSH
// writes it.
func CheckSignature(v *Verified, seal, signatureFile, keyFile string) error {
	armoured, err := os.ReadFile(signatureFile)
	if err != nil {
		return fmt.Errorf("--signature: %w", err)
	}
	public, err := os.ReadFile(keyFile)
	if err != nil {
		return fmt.Errorf("--signer: %w", err)
	}
	key, comment, _, _, err := ssh.ParseAuthorizedKey(public)
	if err != nil {
		return fmt.Errorf("--signer %s: %w; expected a public key as ssh-keygen writes it (.pub)", keyFile, err)
	}
	block, _ := pem.Decode(armoured)
	var blob sigBlob
	var sig ssh.Signature
	if block == nil || block.Type != sigPEM || ssh.Unmarshal(block.Bytes, &blob) != nil || string(blob.Magic[:]) != sigMagic ||
		ssh.Unmarshal([]byte(blob.Signature), &sig) != nil {
		return fmt.Errorf("--signature %s: expected a signature as \"sternledger seal --sign\" writes it", signatureFile)
	}
	v.Signer = strings.TrimSpace(ssh.FingerprintSHA256(key) + " " + comment)
	seal = strings.ToUpper(strings.TrimSpace(seal))
	switch {
	case !bytes.Equal(key.Marshal(), []byte(blob.PublicKey)):
		v.fail(0, "the seal was signed with another key than %s", keyFile)
	case blob.Namespace != sigNamespace || blob.Hash != sigHash || key.Type() != ssh.KeyAlgoED25519 ||
		key.Verify(signed([]byte(seal+"\n")), &sig) != nil:
		v.fail(0, "the signature is not one on this seal")
	}
	return nil
}
