package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

func signInCommand(o *options) *cobra.Command {
	return commandGroup("sign-in", "Manage your own sign-in: sessions, second factor, password", signInList(o),
		newsCommand(o),
		signInEnd(o),
		signInConfirm(o), signInPassword(o), signInSecondFactor(o), signInNoSecondFactor(o))
}

// signInList returns the command sign-in list.
func signInList(o *options) *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List where you are signed in", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.SignedIn(c.Context())
			if err != nil {
				return err
			}

			t := table{head: []string{"SESSION", "SINCE", "UNTIL", "WITH"}, value: all}
			for _, x := range all {
				what := x.What
				if x.Here {
					what += " (this one)"
				}
				t.add(x.ID, x.Since, x.Expires, what)
			}

			return o.show(c, t)
		})}
}

// signInEnd returns the command sign-in end.
func signInEnd(o *options) *cobra.Command {
	var everywhere bool
	end := &cobra.Command{
		Use:   "end [SESSION]",
		Short: "Sign out elsewhere: one session, or with --others all but this one",
		Args:  args(0, 1, "a session's id"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, a []string) error {
			if (len(a) == 1) == everywhere {
				return usageError{errors.New("say which session, or --others")}
			}
			if err := api.EndSession(c.Context(), strings.Join(a, "")); err != nil {
				return err
			}

			printf(c, "Signed out there.")
			return nil
		}),
	}

	end.Flags().BoolVar(&everywhere, "others", false, "all sessions but this one")
	return end
}

// signInSecondFactor returns the command sign-in second-factor.
func signInSecondFactor(o *options) *cobra.Command {
	var fromStdin bool
	code := func(c *cobra.Command, ask func(string) (string, error)) (string, error) { return ask("Code: ") }
	set := &cobra.Command{
		Use:   "second-factor",
		Short: "Turn on a second factor: codes of an authenticator app",
		Args:  args(0, 0, "no argument"),
		Long: `Have codes of an authenticator asked for when you sign in: six digits, every 30 seconds (RFC 6238).

You get a secret for your authenticator and are asked for its code. Then you get spare codes,
each of which counts once, for when you have lost the authenticator. An admin can take a lost one
away: idletally person reset NAME --second-factor.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			s, err := api.ProposeSecond(c.Context())
			if err != nil {
				return err
			}

			tell(c.OutOrStdout(), "Give this to your authenticator:\n\n  secret  %s\n  address %s\n\n", s.Secret, s.URL)
			fit, err := code(c, prompter(c, fromStdin))
			if err != nil {
				return err
			}
			spare, err := api.ConfirmSecond(c.Context(), fit)
			if err != nil {
				return err
			}

			printf(c,
				"From now on you sign in with a code. Your other sessions have ended.\nCodes to spare, each for "+
					"once; keep them where nobody else reads them:")
			for _, x := range spare {
				tell(c.OutOrStdout(), "  %s\n", x)
			}

			return nil
		}),
	}

	set.Flags().BoolVar(&fromStdin, "code-stdin", false, "read the code from standard input")
	return set
}

// signInNoSecondFactor returns the command sign-in no-second-factor.
func signInNoSecondFactor(o *options) *cobra.Command {
	var fromStdin bool
	code := func(c *cobra.Command, ask func(string) (string, error)) (string, error) { return ask("Code: ") }
	drop := &cobra.Command{
		Use:   "no-second-factor",
		Short: "Turn off your second factor, by one of its codes",
		Args:  args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			fit, err := code(c, prompter(c, fromStdin))
			if err != nil {
				return err
			}
			if err := api.RemoveSecond(c.Context(), fit); err != nil {
				return err
			}

			printf(c, "From now on your password is enough.")
			return nil
		}),
	}

	drop.Flags().BoolVar(&fromStdin, "code-stdin", false, "read the code from standard input")
	return drop
}

// signInPassword returns the command sign-in password.
func signInPassword(o *options) *cobra.Command {
	var change wire.NewPassword
	var both bool
	password := &cobra.Command{
		Use:   "password",
		Short: "Change your own password; your other sessions end, and your tokens",
		Args:  args(0, 0, "no argument"),
		Long: `Change your own password. All your other sessions end, and your tokens with them, unless
--keep-tokens says otherwise: whoever had the old password may have made some. With --password-stdin
the first line of standard input is the password as it is, and the second the new one.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) (err error) {
			ask := prompter(c, both)
			if change.Password, err = ask("Password as it is: "); err != nil {
				return err
			}
			if change.NewPassword, err = ask("New password, at least 12 characters: "); err != nil {
				return err
			}

			if !both {
				again, err := ask("The new one again: ")
				if err != nil {
					return err
				}
				if again != change.NewPassword {
					return errors.New("the new password was typed in two ways: nothing was changed")
				}
			}

			if err := api.ChangePassword(c.Context(), change); err != nil {
				return err
			}

			if change.KeepTokens {
				printf(c, "Your password is another one. Your other sessions have ended; your tokens stay good.")
			} else {
				printf(c, "Your password is another one. Your other sessions and your tokens have ended.")
			}

			return nil
		}),
	}

	password.Flags().BoolVar(&change.KeepTokens, "keep-tokens", false, "your tokens stay good")
	password.Flags().BoolVar(&both, "password-stdin", false, "read both passwords from standard input")
	return password
}

// signInConfirm returns the command sign-in confirm.
func signInConfirm(o *options) *cobra.Command {
	var byCode bool
	var given bool
	again := &cobra.Command{
		Use:   "confirm",
		Short: "Confirm who you are, for changes of people, tokens and hooks",
		Args:  args(0, 0, "no argument"),
		Long: `Show again who you are, by your password or, with --code, a code of your authenticator. For ten
minutes after it, or after signing in, you may change people, tokens, second factors, hooks and the
policy. On a terminal you are asked when it is needed.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			if err := confirm(c.Context(), api, prompter(c, given), byCode); err != nil {
				return err
			}
			printf(c, "You have shown who you are: that is good for ten minutes.")
			return nil
		}),
	}

	again.Flags().BoolVar(&byCode, "code", false, "by a code of your authenticator")
	again.Flags().BoolVar(&given, "password-stdin", false, "read the password, or the code, from standard input")
	return again
}

// newsCommand shows what has changed in how somebody signs in.
func newsCommand(o *options) *cobra.Command {
	var seen bool
	news := &cobra.Command{
		Use:   "news",
		Short: "Show what has changed in how you sign in, and who tried to",
		Args:  args(0, 0, "no argument"),
		Long: `Show what has changed in how you sign in, and who tried to, since you said that you have seen it; of
the last 90 days. With --seen you say so of what is shown. What was not you: change your password,
end your other sessions, and tell an admin.`,
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.News(c.Context())
			if err != nil {
				return err
			}

			t := table{
				head:  []string{"LAST", "WHAT", "BY", "TIMES", "DETAIL"},
				value: all,
				none:  "Nothing has changed.",
			}
			for _, n := range all.Items {
				t.add(n.Last, n.What, n.Who, num(int64(n.Times)), n.Detail)
			}

			if err := o.show(c, t); err != nil || !seen || all.Until == "" {
				return err
			}

			return api.SeeNews(c.Context(), all.Until)
		}),
	}

	news.Flags().BoolVar(&seen, "seen", false, "say that you have seen it: it is not shown again")
	return news
}

// sayNews tells somebody who has just signed in what has changed in how they do, if anything has.
func sayNews(c *cobra.Command, api *client.Client) {
	all, err := api.News(c.Context())
	if err != nil || len(all.Items) == 0 { // an older service knows of none
		return
	}
	tell(c.ErrOrStderr(),
		"Since you said last that you have seen it, this has changed in how you sign in, or somebody tried to:\n")
	for _, n := range all.Items[:min(len(all.Items), 10)] {
		times := ""
		if n.Times > 1 {
			times = fmt.Sprintf(", %d times", n.Times)
		}
		tell(c.ErrOrStderr(), "  %s  %s, by %s%s\n", when(n.Last), n.What, n.Who, times)
	}
	tell(c.ErrOrStderr(), "See idletally sign-in news; with --seen it is not told again.\n")
}
