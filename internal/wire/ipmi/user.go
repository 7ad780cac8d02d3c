package ipmi

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"plumbbob/internal/wire/cursor"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// lanChannel finds the channel that we came in by.
const thisChannel = 0x0e

// A UserEntry is one slot of the user table of a channel (sections 22.26 to 22.30).
type UserEntry struct {
	ID        uint8
	Name      string
	Privilege Privilege
	Messaging bool // may log in over IPMI
	Enabled   bool
	Known     bool // the controller says whether it is enabled
	Fixed     bool // its name cannot be changed
	LinkAuth  bool
	Callback  bool // only by call-back
}

// UserTable is the users of a channel.
type UserTable struct {
	Slots   int
	Enabled int
	Entries []UserEntry
}

// accessReply is the reply to Get User Access (section 22.27).
type accessReply struct {
	slots, enabled, fixed, access uint8
}

const (
	userMask      = 0x3f
	enabledShift  = 6
	isEnabled     = 1
	isDisabled    = 2
	accessMessage = 0x10
	accessLink    = 0x20
	accessCall    = 0x40
	accessLimit   = 0x0f
	accessChange  = 0x80
)

// Decode leaves m untouched unless the whole message is sound.
func (m *accessReply) Decode(r *cursor.Reader) error {
	got := accessReply{r.U8(), r.U8(), r.U8(), r.U8()}
	if err := ended(r, "user access"); err != nil {
		return err
	}
	*m = got
	return nil
}

// Users reads the users of the channel that we came in by.
func (c *Client) Users(ctx context.Context) (UserTable, error) {
	var t UserTable
	for id := uint8(1); ; id++ {
		var a accessReply
		if err := c.Do(ctx, GetUserAccess, []byte{thisChannel, id}, &a); err != nil {
			if refused, ok := errors.AsType[*CompletionError](err); ok && id > 1 && refused.Code != InsufficientPrivilege {
				return t, nil // fewer slots than it says
			}
			return t, err
		}
		t.Slots, t.Enabled = int(a.slots&userMask), int(a.enabled&userMask)
		u := UserEntry{
			ID: id, Privilege: Privilege(a.access & accessLimit), Messaging: a.access&accessMessage != 0, LinkAuth: a.access&accessLink != 0,
			Callback: a.access&accessCall != 0, Fixed: id <= a.fixed&userMask,
			Known: a.enabled>>enabledShift != 0, Enabled: a.enabled>>enabledShift != isDisabled,
		}
		var name tail
		if err := c.Do(ctx, GetUserName, []byte{id}, &name); err == nil {
			u.Name = printable(bytes.TrimRight(name, "\x00"))
		} else if _, refused := errors.AsType[*CompletionError](err); !refused {
			return t, err
		}
		if !u.empty() {
			t.Entries = append(t.Entries, u)
		}
		if int(id) >= t.Slots || id >= userMask {
			return t, nil
		}
	}
}

// empty: a slot that nobody uses. Slot 1 is the user without a name.
func (u *UserEntry) empty() bool {
	return u.Name == "" && (!u.Messaging || u.Privilege == NoAccess || u.Privilege == 0) && (u.ID != 1 || !u.Enabled)
}

// SetUserName names a slot; an empty name frees it.
func (c *Client) SetUserName(ctx context.Context, id uint8, name string) error {
	if len(name) > rmcp.MaxName {
		return fmt.Errorf("ipmi: a user name has at most %d bytes", rmcp.MaxName)
	}
	var field [rmcp.MaxName]byte
	copy(field[:], name)
	return c.Do(ctx, SetUserName, append([]byte{id}, field[:]...), nil)
}

// SetUserAccess sets what a user may do on the channel that we came in by.
func (c *Client) SetUserAccess(ctx context.Context, u UserEntry) error {
	flags := accessChange | bit(u.Callback, accessCall) | bit(u.LinkAuth, accessLink) | bit(u.Messaging, accessMessage)
	return c.Do(ctx, SetUserAccess, []byte{flags | thisChannel, u.ID, byte(u.Privilege)}, nil)
}

// The operations of Set User Password (section 22.30).
const (
	passwordDisable = 0
	passwordEnable  = 1
	passwordSet     = 2
	passwordTest    = 3
	password20      = 0x80 // of the user id: the password has 20 bytes
	short           = 16
	wrongPassword   = CompletionCode(0x80)
	wrongSize       = CompletionCode(0x81)
)

// EnableUser lets a user log in, or not.
func (c *Client) EnableUser(ctx context.Context, id uint8, on bool) error {
	op := byte(passwordDisable)
	if on {
		op = passwordEnable
	}
	// With the field of the password, which some controllers insist on.
	return c.Do(ctx, SetUserPassword, append([]byte{id, op}, make([]byte, short)...), nil)
}

func passwordField(id uint8, op byte, p Secret, long bool) []byte {
	b := []byte{id, op}
	size := short
	if long {
		b[0] |= password20
		size = rmcp.MaxPassword
	}
	return append(append(b, p...), make([]byte, size-len(p))...)
}

// SetPassword sets the password of a user, of up to 20 bytes, and has the
// controller compare it.
func (c *Client) SetPassword(ctx context.Context, id uint8, p Secret) error {
	if len(p) > rmcp.MaxPassword {
		return fmt.Errorf("ipmi: a password has at most %d bytes", rmcp.MaxPassword)
	}
	long := len(p) > short
	if err := c.Do(ctx, SetUserPassword, passwordField(id, passwordSet, p, long), nil); err != nil {
		return err
	}
	ok, err := c.TestPassword(ctx, id, p)
	if err == nil && !ok {
		err = &NotTakenError{"the password", "(secret)", "another one"}
	}
	return err
}

// TestPassword asks the controller whether this is the password of a user.
func (c *Client) TestPassword(ctx context.Context, id uint8, p Secret) (bool, error) {
	if len(p) > rmcp.MaxPassword {
		return false, nil
	}
	for _, long := range []bool{len(p) > short, true} {
		err := c.Do(ctx, SetUserPassword, passwordField(id, passwordTest, p, long), nil)
		refused, ok := errors.AsType[*CompletionError](err)
		switch {
		case err == nil:
			return true, nil
		case ok && refused.Code == wrongPassword:
			return false, nil
		case ok && refused.Code == wrongSize && !long:
			continue // it was stored with 20 bytes
		case ok && refused.Code == wrongSize:
			return false, nil
		default:
			return false, err
		}
	}
	return false, nil
}
