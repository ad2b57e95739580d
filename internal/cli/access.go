package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"dowsingrod/internal/api"
	"dowsingrod/internal/client"
	"dowsingrod/internal/service"
)

func (a *App) signIn() *cli.Command {
	return &cli.Command{Name: "sign-in", Usage: "sign this command line in to a service, with name and password", ArgsUsage: "NAME",
		Description: "Asks for the password (or reads it from standard input), makes a token, and keeps it with the\naddress in the user's configuration directory, readable for its owner alone.",
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := one(c, "the account's name")
			if err != nil {
				return err
			}
			cfg, err := loadConfig()
			if err != nil {
				return err
			}
			if v := c.String("address"); v != "" {
				cfg.Address = v
			}
			if cfg.Address == "" {
				cfg.Address = "http://127.0.0.1:7465"
			}
			password, err := a.askPassword("Password of " + name + ": ")
			if err != nil {
				return err
			}
			host, _ := os.Hostname()
			if cfg.Token, err = client.New(cfg.Address, "").SignIn(ctx, name, password, "command line on "+host); err != nil {
				return err
			}
			path, err := cfg.save()
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "Signed in to %s as %s; the token is in %s\n", cfg.Address, name, path)
			return nil
		}}
}

func (a *App) askPassword(prompt string) (string, error) {
	if fd := int(os.Stdin.Fd()); term.IsTerminal(fd) {
		fmt.Fprint(a.Err, prompt)
		b, err := term.ReadPassword(fd)
		fmt.Fprintln(a.Err)
		return string(b), err
	}
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if line == "" && err != nil {
		return "", wrongUsage("no password was given on standard input")
	}
	return strings.TrimRight(line, "\r\n"), nil
}

func (a *App) account() *cli.Command {
	return &cli.Command{Name: "account", Usage: "who may sign in (needs an admin)", Commands: []*cli.Command{
		{Name: "add", Usage: "add an account and print its one-time sign-in link", ArgsUsage: "NAME",
			Flags: []cli.Flag{&cli.StringFlag{Name: "role", Value: "viewer", Usage: "viewer, operator or admin"}, &cli.BoolFlag{Name: "password", Usage: "ask for a password too"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				name, err := one(c, "the account's name")
				if err != nil {
					return err
				}
				cl, err := a.connect(c)
				if err != nil {
					return err
				}
				password := ""
				if c.Bool("password") {
					if password, err = a.askPassword("Password for " + name + ": "); err != nil {
						return err
					}
				}
				link, err := cl.AddAccount(ctx, name, service.Role(c.String("role")), password)
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return a.printJSON(api.AccountMade{Name: name, Link: link})
				}
				fmt.Fprintf(a.Out, "%s may sign in once, within 30 minutes, at the service's address followed by\n  %s\n", name, link)
				return nil
			}},
		{Name: "list", Usage: "all accounts", Action: a.list(func(ctx context.Context, cl *client.Client) (any, table, error) {
			all, err := cl.Accounts(ctx)
			t := table{heads: []string{"account", "role", "signs in by", "since"}}
			for _, x := range all {
				by := "link"
				if x.Password {
					by = "password"
				}
				t.add(x.Name, string(x.Role), by, x.Created.Local().Format("2006-01-02 15:04"))
			}
			return all, t, err
		})},
		{Name: "remove", Usage: "remove an account with its sessions and tokens", ArgsUsage: "NAME", Action: a.remove("the account's name", func(ctx context.Context, cl *client.Client, name string) error {
			return cl.RemoveAccount(ctx, name)
		})},
	}}
}

func (a *App) token() *cli.Command {
	return &cli.Command{Name: "token", Usage: "tokens for scripts", Commands: []*cli.Command{
		{Name: "add", Usage: "make a token with your own role and print it", ArgsUsage: "LABEL", Action: func(ctx context.Context, c *cli.Command) error {
			label, err := one(c, "a label")
			if err != nil {
				return err
			}
			cl, err := a.connect(c)
			if err != nil {
				return err
			}
			token, err := cl.AddToken(ctx, label)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(api.TokenMade{Token: token})
			}
			fmt.Fprintln(a.Out, token)
			return nil
		}},
		{Name: "list", Usage: "your tokens; an admin sees all", Action: a.list(func(ctx context.Context, cl *client.Client) (any, table, error) {
			all, err := cl.Tokens(ctx)
			t := table{heads: []string{"id", "account", "label", "last used", "expires"}}
			for _, x := range all {
				used := "never"
				if x.Used != nil {
					used = x.Used.Local().Format("2006-01-02 15:04")
				}
				t.add(x.ID, x.Account, x.Label, used, x.Expires.Local().Format("2006-01-02"))
			}
			return all, t, err
		})},
		{Name: "remove", Usage: "remove a token", ArgsUsage: "ID", Action: a.remove("the token's id", func(ctx context.Context, cl *client.Client, id string) error {
			return cl.RemoveToken(ctx, id)
		})},
	}}
}

func (a *App) list(ask func(context.Context, *client.Client) (any, table, error)) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		cl, err := a.connect(c)
		if err != nil {
			return err
		}
		all, t, err := ask(ctx, cl)
		if err != nil {
			return err
		}
		if c.Bool("json") {
			return a.printJSON(all)
		}
		a.print(t)
		return nil
	}
}

func (a *App) remove(what string, do func(context.Context, *client.Client, string) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		name, err := one(c, what)
		if err != nil {
			return err
		}
		cl, err := a.connect(c)
		if err != nil {
			return err
		}
		if err := do(ctx, cl, name); err != nil {
			return err
		}
		if c.Bool("json") {
			return a.printJSON(api.Done{Done: true})
		}
		return nil
	}
}
