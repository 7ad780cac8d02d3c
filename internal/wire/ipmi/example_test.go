package ipmi_test

import (
	"context"
	"errors"
	"fmt"
	"log"
	"time"

	"plumbbob/internal/wire/ipmi"
)

// Look inside a server, and press its reset button. A reply that is lost does
// not mean that nothing happened, and is not a reason to press again.
func Example() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c, err := ipmi.Dial(ipmi.Options{Address: "192.0.2.21:623", User: "plumb", Password: "mast-lantern-42"})
	if err != nil {
		log.Fatal(err)
	}
	defer func() { _ = c.Close() }()

	repo, err := c.Repository(ctx, nil)
	if err != nil {
		log.Fatal(err)
	}
	for _, s := range repo.Sensors() {
		m, err := c.Read(ctx, s)
		if err != nil || !m.Present() {
			continue
		}
		if v, ok, _ := c.ValueOf(ctx, s, m); ok {
			fmt.Println(s.Name, ipmi.Quantity(v, s))
		} else {
			fmt.Println(s.Name, ipmi.StateWords(s.Type, s.Event, m.States))
		}
	}
	var silent *ipmi.SilentError
	switch err := c.Control(ctx, ipmi.HardReset); {
	case err == nil:
		fmt.Println("accepted")
	case errors.As(err, &silent) && silent.Sent:
		fmt.Println("it may have happened: look at the host, do not send it again")
	default:
		fmt.Println(err)
	}
}
