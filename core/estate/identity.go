package estate

import (
	"fmt"
	"strconv"
	"strings"
)

// Scheme is a way of identifying a thing across sources.
type Scheme string

// The schemes joined on.
const (
	WWN    Scheme = "wwn"
	NAA    Scheme = "naa"
	EUI    Scheme = "eui"
	NGUID  Scheme = "nguid"
	IQN    Scheme = "iqn"
	NQN    Scheme = "nqn"
	UUID   Scheme = "uuid"
	Export Scheme = "export"
	Serial Scheme = "serial"
	LUN    Scheme = "lun"
)

// Identity is a normalised identifier: two notations of one thing give equal identities.
type Identity struct {
	Scheme Scheme
	Value  string
}

// String writes the identifier so that one can tell what it is.
func (id Identity) String() string {
	switch id.Scheme {
	case NAA, EUI, NGUID, IQN, NQN: // begin with their scheme
		return id.Display()
	case Export, Serial:
		return string(id.Scheme) + " " + id.Display()
	}
	return strings.ToUpper(string(id.Scheme)) + " " + id.Display()
}

// Display writes the identifier in the notation most common for its scheme.
func (id Identity) Display() string {
	switch id.Scheme {
	case WWN:
		return pairs(id.Value)
	case NAA:
		return "naa." + id.Value
	case EUI, NGUID:
		return "eui." + id.Value
	case UUID:
		v := id.Value
		return v[:8] + "-" + v[8:12] + "-" + v[12:16] + "-" + v[16:20] + "-" + v[20:]
	}
	return id.Value
}

func pairs(hex string) string {
	var b strings.Builder
	for i := 0; i+2 <= len(hex); i += 2 {
		if i > 0 {
			b.WriteByte(':')
		}
		b.WriteString(hex[i : i+2])
	}
	return b.String()
}

// Normalize reads an identifier of the scheme in any usual notation.
//
// World wide names: 16 hexadecimal digits (T11 FC-FS), plain, with "0x", or in pairs. NAA: 16 or 32
// digits (SPC-4 designator type 3), plain, or with "naa.", "0x", "wwn-0x", or the leading "3" that
// SCSI tools put before a type 3 designator. EUI-64: 16 digits with "eui." or "0x"; NGUID: 32 digits. IQN and NQN
// are compared without regard to case (RFC 7143 requires lower case; some hosts send upper). UUIDs
// with or without hyphens and braces. Exports as server:/path, doubled and trailing slashes folded. A LUN behind
// an iSCSI target as the target's IQN, a slash and the number, as initiators address it.
func Normalize(scheme Scheme, s string) (Identity, error) {
	text := strings.TrimSpace(s)
	bad := func(want string) (Identity, error) {
		return Identity{}, fmt.Errorf("%q is not %s: expected %s", s, scheme.article(), want)
	}
	switch scheme {
	case anyLUN:
		return NormalizeExtent(s)
	case anyPort:
		return NormalizePort(s)
	case WWN:
		h := hexDigits(cutPrefixes(text, "0x", "naa.", "wwn."))
		if len(h) != 16 {
			return bad("16 hexadecimal digits, as in 50:06:01:60:3b:20:11:0a")
		}
		return Identity{WWN, h}, nil
	case NAA:
		h := hexDigits(cutPrefixes(text, "scsi-", "wwn-", "naa.", "0x"))
		if len(h) == 33 || len(h) == 17 {
			if h[0] == '3' {
				h = h[1:]
			}
		}
		if len(h) != 16 && len(h) != 32 {
			return bad("16 or 32 hexadecimal digits, as in naa.6001405f00000000000000000000000e")
		}
		return Identity{NAA, h}, nil
	case EUI:
		h := hexDigits(cutPrefixes(text, "nvme-", "wwn-", "eui.", "0x"))
		if len(h) != 16 && len(h) != 32 {
			return bad("16 hexadecimal digits, as in eui.0025385b71b0a1c2")
		}
		return Identity{EUI, h}, nil
	case NGUID:
		h := hexDigits(cutPrefixes(text, "nvme-", "wwn-", "eui.", "0x"))
		if len(h) != 32 {
			return bad("32 hexadecimal digits")
		}
		return Identity{EUI, h}, nil // an NGUID is shown to hosts as a 16-byte EUI designator
	case IQN:
		v := strings.ToLower(text)
		if !hasAnyPrefix(v, "iqn.", "eui.", "naa.") || strings.ContainsAny(v, " \t\n") {
			return bad("a name as in iqn.2026-03.example.tidewrack:host-07")
		}
		return Identity{IQN, v}, nil
	case NQN:
		v := strings.ToLower(text)
		if !strings.HasPrefix(v, "nqn.") || strings.ContainsAny(v, " \t\n") {
			return bad("a name as in nqn.2026-03.example.tidewrack:host-07")
		}
		return Identity{NQN, v}, nil
	case UUID:
		h := hexDigits(strings.Trim(cutPrefixes(text, "urn:uuid:"), "{}"))
		if len(h) != 32 {
			return bad("32 hexadecimal digits, as in 6f1c24d0-0b5e-4a53-9d6c-1d2a5a1c0e07")
		}
		return Identity{UUID, h}, nil
	case Export:
		server, path, ok := strings.Cut(text, ":")
		if strings.HasPrefix(text, "[") { // an IPv6 server
			if i := strings.Index(text, "]:"); i > 0 {
				server, path, ok = text[:i+1], text[i+2:], true
			}
		}
		if !ok || server == "" || !strings.HasPrefix(path, "/") {
			return bad("server:/path")
		}
		parts := strings.FieldsFunc(path, func(r rune) bool { return r == '/' })
		return Identity{Export, strings.ToLower(strings.TrimSuffix(server, ".")) + ":/" + strings.Join(parts, "/")}, nil
	case Serial:
		if text == "" {
			return bad("some text")
		}
		return Identity{Serial, strings.ToUpper(text)}, nil
	case LUN:
		i := strings.LastIndexByte(text, '/')
		if i < 0 {
			return bad("target/number, as in iqn.2026-03.example.tidewrack:shags/1")
		}
		target, err := Normalize(IQN, text[:i])
		number, errN := strconv.ParseUint(text[i+1:], 10, 64)
		if err != nil || errN != nil {
			return bad("target/number, as in iqn.2026-03.example.tidewrack:shags/1")
		}
		return Identity{LUN, target.Value + "/" + strconv.FormatUint(number, 10)}, nil
	}
	return Identity{}, fmt.Errorf("unknown identity scheme %q", scheme)
}

// NormalizeExtent reads the identifier of a LUN or namespace, whichever of NAA, EUI (with its prefix) and target/number it is.
func NormalizeExtent(s string) (Identity, error) {
	switch v := strings.ToLower(strings.TrimSpace(s)); {
	case strings.Contains(v, "/"):
		return Normalize(LUN, s)
	case hasAnyPrefix(v, "eui.", "nvme-eui."):
		return Normalize(EUI, s)
	}
	return Normalize(NAA, s)
}

// NormalizePort reads the identifier of a port, whichever of WWN, IQN and NQN it is.
func NormalizePort(s string) (Identity, error) {
	switch v := strings.ToLower(strings.TrimSpace(s)); {
	case strings.HasPrefix(v, "iqn."):
		return Normalize(IQN, v)
	case strings.HasPrefix(v, "nqn."):
		return Normalize(NQN, v)
	default:
		return Normalize(WWN, v)
	}
}

func (s Scheme) article() string {
	names := map[Scheme]string{WWN: "a world wide name", NAA: "an NAA identifier", EUI: "an EUI-64", NGUID: "an NGUID",
		IQN: "an IQN", NQN: "an NQN", UUID: "a UUID", Export: "an NFS export", Serial: "a serial", LUN: "a LUN behind a target"}
	return names[s]
}

// hexDigits drops the separators : - . and blanks, and returns "" where anything but hexadecimal is left.
func hexDigits(s string) string {
	if plainHex(s) {
		return s
	}
	out := make([]byte, 0, len(s))
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c >= '0' && c <= '9', c >= 'a' && c <= 'f':
			out = append(out, c)
		case c >= 'A' && c <= 'F':
			out = append(out, c+'a'-'A')
		case c == ':' || c == '-' || c == '.' || c == ' ':
		default:
			return ""
		}
	}
	return string(out)
}

func cutPrefixes(s string, prefixes ...string) string {
	s = strings.ToLower(s)
	for _, p := range prefixes {
		s = strings.TrimPrefix(s, p)
	}
	return s
}

func hasAnyPrefix(s string, prefixes ...string) bool {
	for _, p := range prefixes {
		if strings.HasPrefix(s, p) {
			return true
		}
	}
	return false
}

func plainHex(s string) bool {
	for i := 0; i < len(s); i++ {
		if c := s[i]; (c < '0' || c > '9') && (c < 'a' || c > 'f') {
			return false
		}
	}
	return true
}
