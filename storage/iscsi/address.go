package iscsi

import (
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"patientheron/protocol/iscsi"
	"patientheron/storage/volume"
)

// Address is a logical unit and how it is reached:
//
//	//[user@]host[:port]/target/lun[?key=value&…]
//
// after the scheme. The keys are those of RFC 7143, with the values that are offered, and
// those of ways.
type Address struct {
	User    string // who logs in; its secret is kept elsewhere
	Portals []string
	Target  string // "" for all of a portal
	LUN     uint16
	Wishes  iscsi.Wishes

	// Sessions is how many each worker has over each portal, and Policy says which of them
	// takes the next command.
	Sessions int
	Policy   Policy
	// Name is that of the initiator; "" for the usual one.
	Name string
}

// Policy says which of several sessions takes a command.
type Policy string

// The policies.
const (
	Rotate Policy = "rotate" // one after the other
	Least  Policy = "least"  // the one with the fewest commands under way
	One    Policy = "one"    // the first that works
)

const (
	mostSessions = 64
	mostPortals  = 16
)

const example = "iscsi://filer.example:3260/iqn.2026-01.example:store/0"

// parseAddress reads what comes after the scheme.
func parseAddress(name string) (a Address, err error) {
	wrong := func(format string, arguments ...any) (Address, error) {
		return Address{}, fmt.Errorf("%w: iscsi:%s: %s; write it as %s", volume.ErrLocator, name, fmt.Sprintf(format, arguments...), example)
	}
	u, err := url.Parse("iscsi:" + name)
	if err != nil {
		return wrong("it cannot be read")
	}
	if u.Host == "" || u.Fragment != "" {
		return wrong("there is no portal")
	}
	a = Address{User: u.User.Username(), Wishes: iscsi.Wishes{}, Sessions: 1, Policy: Rotate}
	if _, secret := u.User.Password(); secret {
		// The text must not be repeated: it holds a secret.
		return Address{}, fmt.Errorf("%w: a secret does not belong into a locator, which is stored and shown; give the user alone, and the secret in the file of secrets (docs/iscsi.md)", volume.ErrLocator)
	}
	portal, _, err := parsePortal(u.Host)
	if err != nil {
		return wrong("%v", err)
	}
	a.Portals = []string{portal}
	if path := strings.Trim(u.Path, "/"); path != "" {
		target, lun, found := strings.Cut(path, "/")
		number, err := strconv.ParseUint(lun, 10, 14)
		switch {
		case !iscsi.ValidName(target):
			return wrong("%q is not the name of a target, which begins with iqn., eui. or naa.", target)
		case !found:
			return wrong("the number of the logical unit is missing after the target")
		case err != nil:
			return wrong("%q is not the number of a logical unit (0 to 16383)", lun)
		}
		a.Target, a.LUN = target, uint16(number)
	}
	query, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return wrong("what follows the question mark cannot be read")
	}
	for key, values := range query {
		for _, value := range values {
			if err := a.set(key, value); err != nil {
				return wrong("%v", err)
			}
		}
	}
	if err := a.wishes().Check(); err != nil {
		return wrong("%v", err)
	}
	return a, nil
}

// set sets one of the keys after the question mark.
func (a *Address) set(key, value string) error {
	switch key {
	case "portal":
		portal, _, err := parsePortal(value)
		if err != nil {
			return err
		}
		if slices.Contains(a.Portals, portal) {
			return fmt.Errorf("the portal %s is there twice", portal)
		}
		if a.Portals = append(a.Portals, portal); len(a.Portals) > mostPortals {
			return fmt.Errorf("more than %d portals", mostPortals)
		}
	case "sessions":
		n, err := strconv.Atoi(value)
		if err != nil || n < 1 || n > mostSessions {
			return fmt.Errorf("sessions=%s: each worker has from 1 to %d over each portal", value, mostSessions)
		}
		a.Sessions = n
	case "policy":
		if a.Policy = Policy(value); a.Policy != Rotate && a.Policy != Least && a.Policy != One {
			return fmt.Errorf("policy=%s: it is rotate, least or one", value)
		}
	case "initiator":
		if !iscsi.ValidName(value) {
			return fmt.Errorf("initiator=%s: a name begins with iqn., eui. or naa., and has small letters", value)
		}
		a.Name = value
	default:
		k, err := iscsi.KeyNamed(key)
		if err != nil {
			return fmt.Errorf("%w, and portal, sessions, policy, initiator", err)
		}
		if k.Name == iscsi.MaxConnections || k.Name == iscsi.RecoveryLevel {
			return fmt.Errorf("%s is fixed: a session has one connection, and what was under way when it is lost is sent again on a new one", k.Name)
		}
		a.Wishes[k.Name] = value
	}
	return nil
}

// String is the address as it is kept: with all keys that are not as usual, in order.
func (a Address) String() string {
	var b strings.Builder
	b.WriteString("//")
	if a.User != "" {
		b.WriteString(url.User(a.User).String() + "@")
	}
	b.WriteString(a.Portals[0])
	if a.Target != "" {
		fmt.Fprintf(&b, "/%s/%d", a.Target, a.LUN)
	}
	var keys []string
	for _, p := range a.Portals[1:] {
		keys = append(keys, "portal="+p)
	}
	if a.Sessions != 1 {
		keys = append(keys, fmt.Sprintf("sessions=%d", a.Sessions))
	}
	if a.Policy != Rotate {
		keys = append(keys, "policy="+string(a.Policy))
	}
	if a.Name != "" {
		keys = append(keys, "initiator="+a.Name)
	}
	for _, k := range iscsi.Keys() {
		if value, is := a.Wishes[k.Name]; is {
			keys = append(keys, k.Name+"="+value)
		}
	}
	if len(keys) > 0 {
		b.WriteString("?" + strings.Join(keys, "&"))
	}
	return b.String()
}

// hostOf is the host of a portal.
func hostOf(portal string) string {
	host, _, err := net.SplitHostPort(portal)
	if err != nil {
		return portal
	}
	return host
}

// parsePortal reads an address with or without a port, as locators and targets give it,
// and the number of its group where that stands behind.
func parsePortal(text string) (portal, group string, err error) {
	text, group, _ = strings.Cut(text, ",")
	host, port := text, strconv.Itoa(iscsi.Port)
	if h, p, err := net.SplitHostPort(text); err == nil {
		host, port = h, p
	}
	host = strings.TrimSuffix(strings.TrimPrefix(host, "["), "]")
	if n, err := strconv.ParseUint(port, 10, 16); err != nil || n == 0 {
		return "", "", fmt.Errorf("%q is not a port", port)
	}
	if host == "" || strings.ContainsAny(host, " \t/\x00") {
		return "", "", fmt.Errorf("%q is not the address of a portal", text)
	}
	return net.JoinHostPort(host, port), group, nil
}
