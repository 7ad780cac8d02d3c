package api

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/password"
	"plumbbob/internal/store"
)

const (
	cookieName   = "plumb"
	consoleLasts = 14 * 24 * time.Hour
	clientLasts  = 90 * 24 * time.Hour
	trustCached  = 30 * time.Second // before a session is looked up again
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

// open routes need no log-in: they are how one logs in.
var open = []string{"POST " + basePath + "/session", "POST " + basePath + "/tokens"}

// authenticate finds out who asks, by cookie or by bearer token.
func (s *Server) authenticate(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		ctx := context.WithValue(r.Context(), remoteKey{}, c.RealIP())
		if slices.Contains(open, r.Method+" "+r.URL.Path) {
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
			return errNotLoggedIn
		}
		x, err := s.sessions.find(ctx, s.Store, token)
		if errors.Is(err, store.ErrNotFound) || err == nil && x.Kind != kind {
			return errNotLoggedIn
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

// needs is the least role for an operation of the API; viewer when not named.
var needs = map[string]operation.Role{
	"RequestOperation": operation.Operator, "CancelOperation": operation.Operator,
	"GetController": operation.Operator, "ChangeController": operation.Operator, "ClearEvents": operation.Steward,
	"ImportEstate": operation.Steward,
	"GetCard":      operation.Operator, "CommandSupply": operation.Operator, "SetOutlet": operation.Steward,
	"CheckWiring": operation.Operator, "StopWiring": operation.Operator, "SetProfile": operation.Steward, "RemoveProfile": operation.Steward, "TryProfile": operation.Steward,
	"RequestGroup": operation.Operator, "CancelGroup": operation.Operator, "OpenWindow": operation.Operator, "CloseWindow": operation.Operator, "SetCalendar": operation.Steward, "RemoveCalendar": operation.Steward,
	"SayOfIncident": operation.Operator,
	"ListSecrets":   operation.Steward, "SetSecret": operation.Keeper, "RemoveSecret": operation.Keeper,
	"ListAccounts": operation.Steward, "AddAccount": operation.Keeper, "RemoveAccount": operation.Keeper, "SetRole": operation.Keeper, "ResetPassword": operation.Keeper,
}

// atLeast refuses who has not got a role.
func atLeast(ctx context.Context, need operation.Role) error {
	if has := operation.Role(whoIs(ctx).Role); !has.AtLeast(need) {
		return &notPermitted{need, has}
	}
	return nil
}

// permit refuses what the role does not allow.
func permit(next contract.StrictHandlerFunc, operationID string) contract.StrictHandlerFunc {
	return func(c *echo.Context, request any) (any, error) {
		if operationID != "LogIn" && operationID != "CreateToken" {
			if err := atLeast(c.Request().Context(), cmp.Or(needs[operationID], operation.Viewer)); err != nil {
				return nil, err
			}
		}
		return next(c, request)
	}
}

// LogIn implements the contract.
func (s *Server) LogIn(ctx context.Context, req contract.LogInRequestObject) (contract.LogInResponseObject, error) {
	a, err := s.checkPassword(ctx, *req.Body)
	if err != nil {
		return nil, err
	}
	token, expires := rand.Text()+rand.Text(), time.Now().Add(consoleLasts).UTC()
	if err := s.Store.CreateSession(ctx, token, a.ID, store.ConsoleSession, "console", expires); err != nil {
		return nil, err
	}
	cookie := s.cookie(token, expires)
	return contract.LogIn200JSONResponse{
		Body:    contract.Session{Account: a.Name, Role: a.Role, Expires: expires},
		Headers: contract.LogIn200ResponseHeaders{SetCookie: &cookie},
	}, nil
}

// CreateToken implements the contract.
func (s *Server) CreateToken(ctx context.Context, req contract.CreateTokenRequestObject) (contract.CreateTokenResponseObject, error) {
	a, err := s.checkPassword(ctx, *req.Body)
	if err != nil {
		return nil, err
	}
	token, expires := rand.Text()+rand.Text(), time.Now().Add(clientLasts).UTC()
	name := "client"
	if req.Body.Name != nil {
		name = *req.Body.Name
	}
	if err := s.Store.CreateSession(ctx, token, a.ID, store.ClientSession, name, expires); err != nil {
		return nil, err
	}
	return contract.CreateToken201JSONResponse{Token: token, Account: a.Name, Expires: expires}, nil
}

// GetSession implements the contract.
func (s *Server) GetSession(ctx context.Context, _ contract.GetSessionRequestObject) (contract.GetSessionResponseObject, error) {
	w := whoIs(ctx)
	return contract.GetSession200JSONResponse{Account: w.Account, Role: w.Role, Expires: w.ExpiresAt}, nil
}

// LogOut implements the contract.
func (s *Server) LogOut(ctx context.Context, _ contract.LogOutRequestObject) (contract.LogOutResponseObject, error) {
	w := whoIs(ctx)
	if err := s.Store.EndSession(ctx, w.token); err != nil {
		return nil, err
	}
	s.sessions.forget(w.token)
	s.journal(ctx, store.Entry{Kind: store.EntryLogOut, Who: w.Account, Text: "Logged out", Result: "done"})
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
	_, err := s.sessions.find(ctx, s.Store, whoIs(ctx).token)
	return errors.Is(err, store.ErrNotFound)
}

// forgetAccount has the log-ins of an account looked up again, of which one may stay.
func (x sessions) forgetAccount(name, token string) {
	x.mu.Lock()
	maps.DeleteFunc(x.known, func(t string, c cached) bool { return c.Account == name && t != token })
	x.mu.Unlock()
}

// checkPassword finds the account, or says no in the same time.
func (s *Server) checkPassword(ctx context.Context, in contract.LogIn) (store.Account, error) {
	remote, _ := ctx.Value(remoteKey{}).(string)
	if wait := s.tries.wait(in.Account, remote); wait > 0 {
		return store.Account{}, &tooManyTries{wait}
	}
	a, err := s.Store.Account(ctx, in.Account)
	right := false
	switch {
	case errors.Is(err, store.ErrNotFound):
		password.Waste(in.Password)
	case err != nil:
		return a, err
	default:
		if right, err = password.Check(in.Password, a.PasswordHash); err != nil {
			return a, err
		}
	}
	if !right {
		s.tries.failed(in.Account, remote)
		s.journal(ctx, store.Entry{Kind: store.EntryLogInRefused, Who: in.Account, Text: "Wrong password from " + remote, Result: "refused"})
		return a, errWrongPassword
	}
	s.tries.succeeded(in.Account, remote)
	s.journal(ctx, store.Entry{Kind: store.EntryLogIn, Who: a.Name, Text: "Logged in from " + remote, Result: "done"})
	return a, nil
}

// sessions remembers log-ins for a while: looking one up must not cost a query
// for every request, nor fail while the database is away.
type sessions struct {
	mu    *sync.Mutex
	known map[string]cached
}

type cached struct {
	store.Session
	looked time.Time
}

func newSessions() sessions { return sessions{&sync.Mutex{}, map[string]cached{}} }

func (x sessions) find(ctx context.Context, db *store.Store, token string) (store.Session, error) {
	x.mu.Lock()
	c, ok := x.known[token]
	x.mu.Unlock()
	if ok && time.Since(c.looked) < trustCached && time.Now().Before(c.ExpiresAt) {
		return c.Session, nil
	}
	s, err := db.Session(ctx, token)
	if errors.Is(err, store.ErrAway) && ok && time.Now().Before(c.ExpiresAt) {
		return c.Session, nil
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if err != nil {
		delete(x.known, token)
		return s, err
	}
	if len(x.known) > 10_000 {
		clear(x.known)
	}
	x.known[token] = cached{s, time.Now()}
	return s, nil
}

func (x sessions) forget(token string) {
	x.mu.Lock()
	delete(x.known, token)
	x.mu.Unlock()
}

// tries slows down guessing: after some failures for an account, or from an
// address, everybody has to wait there for a while.
type tries struct {
	mu    *sync.Mutex
	count map[string]int
	since map[string]time.Time
}

const (
	freeTries = 5
	tryWait   = 30 * time.Second
)

func newTries() tries { return tries{&sync.Mutex{}, map[string]int{}, map[string]time.Time{}} }

func (t tries) wait(account, remote string) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	var wait time.Duration
	for _, k := range []string{"account " + account, "remote " + remote} {
		if t.count[k] >= freeTries {
			wait = max(wait, tryWait-time.Since(t.since[k]))
		}
	}
	return wait
}

func (t tries) failed(account, remote string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.count) > 10_000 {
		clear(t.count)
	}
	for _, k := range []string{"account " + account, "remote " + remote} {
		if time.Since(t.since[k]) > 10*tryWait {
			t.count[k] = 0
		}
		t.count[k]++
		t.since[k] = time.Now()
	}
}

func (t tries) succeeded(account, remote string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.count, "account "+account)
	delete(t.count, "remote "+remote)
}

// entry is what the journal says of a change that somebody makes.
func entry(ctx context.Context, kind, format string, args ...any) store.Entry {
	return store.Entry{At: nowUTC(), Kind: kind, Who: whoIs(ctx).Account, Text: fmt.Sprintf(format, args...), Result: "done"}
}

const journalWithin = 10 * time.Second

// journal writes an entry. That it cannot be written must not undo what was done.
func (s *Server) journal(ctx context.Context, e store.Entry) {
	e.At = time.Now().UTC()
	// Whoever asked may have gone: that takes nothing out of the record.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), journalWithin)
	defer cancel()
	if err := s.Store.Write(ctx, e); err != nil {
		s.Log.Error("an entry of the journal is lost", "kind", e.Kind, "who", e.Who, "text", e.Text, "because", err)
		return
	}
	s.JournalWritten()
}
