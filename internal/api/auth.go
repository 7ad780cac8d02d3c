package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/people"
	"plumbbob/internal/store"
)

const (
	cookieName    = "plumb"
	consoleLasts  = 14 * 24 * time.Hour
	clientLasts   = 90 * 24 * time.Hour
	mostTokenName = 64 // characters: as many as its column has
)

// who is logged in, in the context of a request.
type whoKey struct{}

type who struct {
	store.Session
	token string
}

func whoIs(ctx context.Context) who {
	w, _ := ctx.Value(whoKey{}).(who)
	return w
}

// authenticate finds out who asks, by cookie or by bearer token.
func (s *Server) authenticate(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		ctx := context.WithValue(r.Context(), remoteKey{}, c.RealIP())
		if gateOf(ctx).least == nobody {
			c.SetRequest(r.WithContext(ctx))
			return next(c)
		}
		token, kind := bearer(r), store.ClientSession
		if token == "" {
			kind = store.ConsoleSession
			if ck, err := c.Cookie(cookieName); err == nil {
				token = ck.Value
			}
		}
		if token == "" {
			return people.ErrNotIn
		}
		x, err := s.People.Who(ctx, token)
		if err == nil && x.Kind != kind {
			err = people.ErrNotIn
		}
		if err != nil {
			return err
		}
		c.SetRequest(r.WithContext(context.WithValue(ctx, whoKey{}, who{x, token})))
		return next(c)
	}
}

func bearer(r *http.Request) string {
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok {
		return ""
	}
	return token
}

// atLeast refuses who has not got a role.
func atLeast(ctx context.Context, need operation.Role) error {
	if has := operation.Role(whoIs(ctx).Role); !has.AtLeast(need) {
		return &notPermitted{need, has}
	}
	return nil
}

// LogIn implements the contract.
func (s *Server) LogIn(ctx context.Context, req contract.LogInRequestObject) (contract.LogInResponseObject, error) {
	in, err := s.People.Come(ctx, credentials(ctx, *req.Body), store.ConsoleSession, "console", consoleLasts)
	if err != nil {
		return nil, err
	}
	cookie := s.cookie(in.Token, in.Expires)
	return contract.LogIn200JSONResponse{
		Body:    contract.Session{Account: in.Account, Role: in.Role, Expires: in.Expires},
		Headers: contract.LogIn200ResponseHeaders{SetCookie: &cookie},
	}, nil
}

// CreateToken implements the contract.
func (s *Server) CreateToken(ctx context.Context, req contract.CreateTokenRequestObject) (contract.CreateTokenResponseObject, error) {
	name := cmp.Or(text(req.Body.Name), "client")
	if n := len([]rune(name)); n > mostTokenName {
		return nil, usage("the name of a client has at most %d characters, not %d", mostTokenName, n)
	}
	in, err := s.People.Come(ctx, credentials(ctx, *req.Body), store.ClientSession, name, clientLasts)
	if err != nil {
		return nil, err
	}
	return contract.CreateToken201JSONResponse{Token: in.Token, Account: in.Account, Expires: in.Expires}, nil
}

// GetSession implements the contract.
func (s *Server) GetSession(ctx context.Context, _ contract.GetSessionRequestObject) (contract.GetSessionResponseObject, error) {
	w := whoIs(ctx)
	return contract.GetSession200JSONResponse{Account: w.Account, Role: w.Role, Expires: w.ExpiresAt}, nil
}

// LogOut implements the contract.
func (s *Server) LogOut(ctx context.Context, _ contract.LogOutRequestObject) (contract.LogOutResponseObject, error) {
	w := whoIs(ctx)
	if err := s.People.Go(ctx, w.token, w.Account); err != nil {
		return nil, err
	}
	cookie := s.cookie("", time.Unix(1, 0))
	return contract.LogOut204Response{Headers: contract.LogOut204ResponseHeaders{SetCookie: &cookie}}, nil
}

func (s *Server) cookie(token string, expires time.Time) string {
	c := http.Cookie{
		Name: cookieName, Value: token, Path: "/", Expires: expires,
		HttpOnly: true, Secure: s.Secure, SameSite: http.SameSiteStrictMode,
	}
	return c.String()
}

type remoteKey struct{}

// ended says whether the log-in of a request that lasts has ended meanwhile.
func (s *Server) ended(ctx context.Context) bool {
	_, err := s.People.Who(ctx, whoIs(ctx).token)
	return errors.Is(err, people.ErrNotIn)
}

// credentials are what somebody comes in with, and from where.
func credentials(ctx context.Context, in contract.LogIn) people.Credentials {
	remote, _ := ctx.Value(remoteKey{}).(string)
	return people.Credentials{Account: in.Account, Password: in.Password, From: remote}
}

// entry is what the journal says of a change that somebody makes.
func entry(ctx context.Context, kind, format string, args ...any) store.Entry {
	return store.Entry{At: nowUTC(), Kind: kind, Who: whoIs(ctx).Account, Text: fmt.Sprintf(format, args...), Result: "done"}
}
