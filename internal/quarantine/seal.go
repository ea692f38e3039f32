package quarantine

import (
	"strings"

	"filippo.io/age"

	"trevak/internal/fault"
)

// Seal is how a quarantine file is kept: as it is, not at all, or sealed for a public key (age-encryption.org/v1). The zero value is as it
// is.
type Seal struct {
	// None says that records are counted, and not kept.
	None bool
	to   age.Recipient
}

// sealedEnding is that of files that are sealed.
const sealedEnding = ".age"

// ParseSeal reads plain, none, or a public key.
func ParseSeal(text string) (Seal, error) {
	switch {
	case text == "" || text == "plain":
		return Seal{}, nil
	case text == "none":
		return Seal{None: true}, nil
	case !strings.HasPrefix(text, "age1"):
		return Seal{}, fault.New(fault.Usage, "--quarantine-as %q is not known",
			text).Try("write plain, none, or a public key that begins with age1")
	}
	to, err := age.ParseX25519Recipient(text)
	if err != nil {
		return Seal{}, fault.New(fault.Usage, "--quarantine-as %q is no public key of age",
			text).Try("copy it whole, as age-keygen prints it: age1 and 58 characters")
	}
	return Seal{to: to}, nil
}
