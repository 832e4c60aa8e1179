package main

import (
	"context"
	"fmt"
	"strings"

	"glenrain/core/step"
	"glenrain/desk"
)

// peopleCommand is for whoever has the machine: also where no administrator can sign in any more.
type peopleCommand struct {
	Data   string `required:"" help:"The data folder; a server can keep running."`
	Base   string `default:"http://127.0.0.1:8080" help:"The server’s address, for one-time links."`
	Invite string `help:"Create a one-time link for someone with this role: administrator, member or reader." placeholder:"ROLE"`
	For    string `help:"Name of the invited person."`
	Reset  string `help:"Create a one-time link to set a new password for the person with this sign-in name." placeholder:"NAME"`
}

func (c *peopleCommand) Run(ctx context.Context) error {
	p, err := desk.OpenPeople(c.Data)
	if err != nil {
		return err
	}
	defer p.Close()
	enter := strings.TrimRight(c.Base, "/") + "/enter/"
	switch {
	case c.Invite != "" && c.Reset != "":
		return useError{fmt.Errorf("do one at a time: invite someone, or reset a password")}
	case c.Invite != "":
		token, err := p.Invite(ctx, desk.Role(c.Invite), c.For)
		if err != nil {
			return err
		}
		fmt.Printf("The first person to open this link within three days joins as %s:\n%s%s\n", c.Invite, enter, token)
		return nil
	case c.Reset != "":
		token, err := p.Reset(ctx, c.Reset)
		if err != nil {
			return err
		}
		fmt.Printf("The first person to open this link within three days sets a new password for %s:\n%s%s\n", c.Reset, enter, token)
		return nil
	}
	list, err := p.List(ctx)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		fmt.Println("No one is set up yet: start the server and open the link that it prints.")
	}
	for _, v := range list {
		fmt.Printf("%-24s %-16s %-14s %s\n", v.Name, v.SignIn, v.Role, step.Count(v.Documents, "document"))
	}
	return nil
}
