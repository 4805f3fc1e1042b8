package berth

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Kind is what a machine arrives for.
type Kind string

// The kinds.
const (
	Live  Kind = "live"  // to do its work here
	Drill Kind = "drill" // to be tried, apart from everything
)

// Kinds lists both.
func Kinds() []Kind { return []Kind{Live, Drill} }

// MaxVLAN is the highest number of a VLAN (IEEE 802.1Q).
const MaxVLAN = 4094

// Rule maps addresses of one subnet, a range or a single one to others. The zero value
// is none.
type Rule struct {
	Kind    Kind   // for this only; empty is both
	Network string // of home networks of this name only; empty is any
	VLAN    int    // of home networks with this number only; 0 is any
	// First and Last are the addresses that it maps. Of a subnet they are its first and
	// last, and Bits is the length of its prefix; otherwise Bits is 0.
	First, Last netip.Addr
	Bits        int
	// To is where First goes, with the prefix of the subnet there. Of a subnet it is the
	// subnet.
	To      netip.Prefix
	Gateway netip.Addr // of those that it maps; invalid is what the network has
}

// ParseRule reads a rule as people write it:
//
//	[live|drill] [on NETWORK] [vlan NUMBER] FROM -> TO [gateway ADDRESS]
//
// FROM is a subnet (10.40.8.0/24), a range (10.40.8.10-10.40.8.20) or an address; TO is
// a subnet for a subnet, and an address with its mask (10.60.4.110/24) for the others. A
// network whose name has blanks stands in quotes.
func ParseRule(text string) (Rule, error) {
	from, to, found := strings.Cut(strings.ReplaceAll(text, "→", "->"), "->")
	if !found {
		return Rule{}, fmt.Errorf("%q has no arrow; write it as 10.40.8.0/24 -> 10.60.4.0/24", strings.TrimSpace(text))
	}
	var r Rule
	words, err := fields(from)
	if err != nil {
		return Rule{}, err
	}
	if words, err = r.readScope(words); err != nil {
		return Rule{}, err
	}
	if len(words) != 1 {
		return Rule{}, fmt.Errorf("before the arrow stands one subnet, range or address, not %q", strings.Join(words, " "))
	}
	if err := r.readFrom(words[0]); err != nil {
		return Rule{}, err
	}
	if words, err = fields(to); err != nil {
		return Rule{}, err
	}
	if len(words) == 3 && words[1] == "gateway" {
		if r.Gateway, err = parseAddr(words[2]); err != nil {
			return Rule{}, fmt.Errorf("gateway %w", err)
		}
		words = words[:1]
	}
	if len(words) != 1 {
		return Rule{}, errors.New("after the arrow stands one subnet or address, and at most: gateway ADDRESS")
	}
	if err := r.readTo(words[0]); err != nil {
		return Rule{}, err
	}
	return r, r.check()
}

// fields cuts a text at blanks that are not in quotes.
func fields(text string) ([]string, error) {
	var out []string
	for text = strings.TrimSpace(text); text != ""; text = strings.TrimSpace(text) {
		if text[0] == '"' {
			word, rest, closed := strings.Cut(text[1:], `"`)
			if !closed {
				return nil, errors.New("a quote is not closed")
			}
			out, text = append(out, word), rest
			continue
		}
		at := strings.IndexAny(text, " \t")
		if at < 0 {
			at = len(text)
		}
		out, text = append(out, text[:at]), text[at:]
	}
	return out, nil
}

func (r *Rule) readScope(words []string) ([]string, error) {
	for len(words) > 1 {
		switch words[0] {
		case string(Live), string(Drill):
			r.Kind, words = Kind(words[0]), words[1:]
		case "on":
			r.Network, words = words[1], words[2:]
		case "vlan":
			n, err := strconv.Atoi(words[1])
			if err != nil || n < 1 || n > MaxVLAN {
				return nil, fmt.Errorf("a VLAN is a number from 1 to %d, not %q", MaxVLAN, words[1])
			}
			r.VLAN, words = n, words[2:]
		default:
			return words, nil
		}
	}
	return words, nil
}

func parseAddr(text string) (netip.Addr, error) {
	a, err := netip.ParseAddr(text)
	if err != nil || a.Zone() != "" || a.Is4In6() {
		return netip.Addr{}, fmt.Errorf("%q is no address", text)
	}
	return a, nil
}

// parseSubnet reads one, and refuses an address inside it: somebody would have meant
// something else.
func parseSubnet(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	switch {
	case err != nil:
		return p, fmt.Errorf("%q is no subnet; write it as 10.40.8.0/24", text)
	case p.Masked() != p:
		return p, fmt.Errorf("%s is an address inside the subnet %s; write the subnet", text, p.Masked())
	}
	return p, nil
}

func (r *Rule) readFrom(text string) (err error) {
	if first, last, is := strings.Cut(text, "-"); is {
		if r.First, err = parseAddr(first); err != nil {
			return err
		}
		if r.Last, err = parseAddr(last); err != nil {
			return err
		}
		if r.First.BitLen() != r.Last.BitLen() || r.Last.Less(r.First) {
			return fmt.Errorf("the range %s does not go from a lower to a higher address", text)
		}
		return nil
	}
	if strings.Contains(text, "/") {
		p, err := parseSubnet(text)
		if err != nil {
			return err
		}
		r.First, r.Last, r.Bits = p.Addr(), last(p), p.Bits()
		if p.IsSingleIP() || p.Bits() == 0 {
			return fmt.Errorf("%s is not a part of the addresses that there are, nor a subnet; write an address, or a subnet", text)
		}
		return nil
	}
	r.First, err = parseAddr(text)
	r.Last = r.First
	return err
}

func (r *Rule) readTo(text string) (err error) {
	if r.Bits > 0 {
		r.To, err = parseSubnet(text)
		return err
	}
	if r.To, err = netip.ParsePrefix(text); err != nil {
		return fmt.Errorf("%q has to be an address with its mask, such as 10.60.4.110/24", text)
	}
	return nil
}

func (r Rule) check() error {
	switch {
	case r.First.BitLen() != r.To.Addr().BitLen():
		return fmt.Errorf("%s and %s are not of the same kind: a rule keeps IPv4 or IPv6", r.First, r.To)
	case r.Bits > 0 && r.To.Bits() > r.Bits:
		return fmt.Errorf("%s has less room than the subnet that goes there (/%d)", r.To, r.Bits)
	}
	end, ok := r.moved(r.Last)
	if !ok || !r.To.Contains(end) {
		return fmt.Errorf("the range does not fit into %s from %s on", r.To.Masked(), r.To.Addr())
	}
	if g := r.Gateway; g.IsValid() {
		if !r.To.Contains(g) {
			return fmt.Errorf("the gateway %s is not inside %s", g, r.To.Masked())
		}
		if why := unusable(netip.PrefixFrom(g, r.To.Bits())); why != "" {
			return fmt.Errorf("the gateway %s", why)
		}
	}
	return nil
}

// moved keeps the distance from the first address.
func (r Rule) moved(a netip.Addr) (netip.Addr, bool) {
	return plus(r.To.Addr(), minus(a, r.First))
}

// Covers tells whether a rule is for an address of a home network.
func (r Rule) Covers(kind Kind, network string, vlan int, a netip.Addr) bool {
	return (r.Kind == "" || r.Kind == kind) && (r.Network == "" || strings.EqualFold(r.Network, network)) && (r.VLAN == 0 || r.VLAN == vlan) &&
		a.BitLen() == r.First.BitLen() && !a.Less(r.First) && !r.Last.Less(a)
}

// Map gives the address over there, with the prefix of its subnet.
func (r Rule) Map(a netip.Addr) netip.Prefix {
	to, _ := r.moved(a)
	return netip.PrefixFrom(to, r.To.Bits())
}

// String writes it as ParseRule reads it.
func (r Rule) String() string {
	var out []string
	if r.Kind != "" {
		out = append(out, string(r.Kind))
	}
	if r.Network != "" {
		name := r.Network
		if strings.ContainsAny(name, " \t") {
			name = `"` + name + `"`
		}
		out = append(out, "on", name)
	}
	if r.VLAN != 0 {
		out = append(out, "vlan", strconv.Itoa(r.VLAN))
	}
	switch {
	case r.Bits > 0:
		out = append(out, netip.PrefixFrom(r.First, r.Bits).String())
	case r.First == r.Last:
		out = append(out, r.First.String())
	default:
		out = append(out, r.First.String()+"-"+r.Last.String())
	}
	out = append(out, "->", r.To.String())
	if r.Gateway.IsValid() {
		out = append(out, "gateway", r.Gateway.String())
	}
	return strings.Join(out, " ")
}

// shadows tells whether all that another rule maps is mapped by this one before.
func (r Rule) shadows(o Rule) bool {
	return (r.Kind == "" || r.Kind == o.Kind) && (r.Network == "" || strings.EqualFold(r.Network, o.Network)) && (r.VLAN == 0 || r.VLAN == o.VLAN) &&
		r.First.BitLen() == o.First.BitLen() && !o.First.Less(r.First) && !r.Last.Less(o.Last)
}

// unusable says why an address cannot be a machine's; nothing if it can. The first and
// the last of a subnet of IPv4 are not (RFC 1122, 3.2.1.3), but of one of two (RFC 3021).
func unusable(p netip.Prefix) string {
	a := p.Addr()
	switch {
	case a.IsUnspecified() || a.IsMulticast() || a.IsLoopback():
		return fmt.Sprintf("%s cannot be the address of a card", a)
	case !a.Is4() || p.Bits() >= 31:
		return ""
	case a == p.Masked().Addr():
		return fmt.Sprintf("%s names the subnet itself", a)
	case a == last(p):
		return fmt.Sprintf("%s is the broadcast address of %s", a, p.Masked())
	}
	return ""
}

// last is the highest address of a subnet.
func last(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 1 << (7 - i%8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// minus is the distance between two addresses of a kind, most significant byte first.
func minus(a, from netip.Addr) []byte {
	x, y := a.AsSlice(), from.AsSlice()
	out := make([]byte, len(x))
	borrow := 0
	for i := len(x) - 1; i >= 0; i-- {
		d := int(x[i]) - int(y[i]) - borrow
		borrow = 0
		if d < 0 {
			d, borrow = d+256, 1
		}
		out[i] = byte(d)
	}
	return out
}

// plus adds a distance; false if there is no such address.
func plus(a netip.Addr, distance []byte) (netip.Addr, bool) {
	x := slices.Clone(a.AsSlice())
	if len(x) != len(distance) {
		return netip.Addr{}, false
	}
	carry := 0
	for i := len(x) - 1; i >= 0; i-- {
		s := int(x[i]) + int(distance[i]) + carry
		x[i], carry = byte(s), s>>8
	}
	out, _ := netip.AddrFromSlice(x)
	return out, carry == 0
}
