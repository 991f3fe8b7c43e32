package cli

import (
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"rotanex.example/api"
	"rotanex.example/api/client"
	"rotanex.example/core/stock"
)

func (a *app) notify() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "Say who is told, of what, and when not", Args: cobra.NoArgs, Example: "  rotanex notify list",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := client.Decode[struct{ Items []api.Receiver }](c.ListReceivers(cmd.Context()))
			if err != nil {
				return err
			}
			l := listing{columns: []string{"receiver", "address", "told of", "quiet", "trouble", "tried again"}, records: all.Items, empty: "Nobody is told. Tell a web hook or a mailbox: rotanex notify put NAME --to https://… or mailto:…"}
			for _, r := range all.Items {
				l.add(r.Name, r.Address, subjectsText(r.Subjects), quietText(r.Quiet), orNone(r.Fault), at(r.NextAt))
			}
			return a.show(cmd, l)
		}),
	}
	notices := &cobra.Command{
		Use: "sent", Short: "Say what was told to whom, newest first, and what waits to be", Args: cobra.NoArgs, Example: "  rotanex notify sent",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := pages(func(cursor string) ([]api.Notice, string, error) {
				page, err := client.Decode[api.NoticeList](c.ListNotices(cmd.Context(), &api.ListNoticesParams{Cursor: some(cursor), Limit: new(500)}))
				return page.Items, page.Next, err
			})
			if err != nil {
				return err
			}
			l := listing{columns: []string{"at", "receiver", "about", "state", "told", "text"}, records: all, empty: "Nothing was told yet. rotanex notify test NAME tries it."}
			for _, x := range all {
				l.add(at(x.At), x.Receiver, string(x.Subject), string(x.State), at(x.SentAt), x.Text)
			}
			return a.show(cmd, l)
		}),
	}
	test := &cobra.Command{
		Use: "test NAME", Short: "Tell a receiver that this is a test, at once", Args: cobra.ExactArgs(1), Example: "  rotanex notify test board",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			done, err := client.Decode[api.ReceiverTest](c.TestReceiver(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if done.Told {
				return a.did(cmd, done, "%s was told.", args[0])
			}
			failed := errors.New(args[0] + " could not be told: " + done.Fault)
			if a.config.GetString("output") == "json" {
				return errors.Join(printJSON(cmd.OutOrStdout(), done), failed)
			}
			return failed
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Tell a receiver nothing any more", Args: cobra.ExactArgs(1), Example: "  rotanex notify remove board",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := client.Check(c.RemoveReceiver(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.did(cmd, map[string]string{"removed": args[0]}, "%s is told nothing any more.", args[0])
		}),
	}
	return group("notify", "Who is told what, by web hook or mail", list, a.notifyPut(), test, notices, remove)
}

func (a *app) notifyPut() *cobra.Command {
	var to string
	var about, quiet []string
	c := &cobra.Command{
		Use: "put NAME --to ADDRESS", Short: "Tell a web hook or a mailbox, or change what it is told", Args: cobra.ExactArgs(1),
		Long: `A web hook is posted CloudEvents, signed by the Standard Webhooks specification with a secret
that is shown once, when the receiver is made. A mailbox needs the service to be started with --smtp.
It is told of
  done          a run ended
  behind        a run's chance fell below what was asked for
  proposal      a new schedule waits for a person, mostly for money
  proofs        a farm's proof frames wait for a person
  stranded      nobody is left to render frames
  host-lost     a host with frames to render is not heard of
  backlog-done  a shot of the backlog ended
all of it without --about. In quiet hours it is told nothing; what is still so when they end is told then.`,
		Example: "  rotanex notify put board --to https://hooks.lanternfish.example/rotanex\n  rotanex notify put ada --to mailto:ada@lanternfish.example --about behind,proposal,stranded --quiet \"mon-sun 23:00-07:00\"",
		RunE: a.with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			body := api.NewReceiver{Address: to}
			for _, x := range about {
				body.Subjects = append(body.Subjects, api.NoticeSubject(strings.TrimSpace(x)))
			}
			for _, x := range quiet {
				h, err := parseHours(x)
				if err != nil {
					return fmt.Errorf("--quiet %q: %w", x, err)
				}
				body.Quiet = append(body.Quiet, h)
			}
			r, err := client.Decode[api.Receiver](c.PutReceiver(cmd.Context(), args[0], body))
			if err != nil {
				return err
			}
			secret := ""
			if r.Secret != "" {
				secret = "\nWhat it is sent is signed with this secret, which is not shown again: " + r.Secret
			}
			return a.did(cmd, r, "%s (%s) is told of %s. rotanex notify test %s tries it.%s", r.Name, r.Address, subjectsText(r.Subjects), r.Name, secret)
		}),
	}
	c.Flags().StringVar(&to, "to", "", "https://… for a web hook, mailto:… for a mailbox")
	c.Flags().StringSliceVar(&about, "about", nil, "what it is told of; default all")
	c.Flags().StringArrayVar(&quiet, "quiet", nil, "days and hours in which it is told nothing, such as \"mon-fri 22:00-07:00\" or \"sat,sun\", in the service's zone; may be said again")
	_ = c.MarkFlagRequired("to")
	return c
}

// parseHours reads days, hours, or both: "mon-fri 22:00-07:00".
func parseHours(text string) (api.Hours, error) {
	h := stock.Hours{Days: "mon-sun"}
	words := strings.Fields(text)
	if len(words) == 0 || len(words) > 2 {
		return api.Hours{}, errors.New("want for example mon-fri 22:00-07:00")
	}
	if clock := words[len(words)-1]; strings.Contains(clock, ":") {
		from, to, ok := strings.Cut(clock, "-")
		if !ok {
			return api.Hours{}, errors.New("want for example 22:00-07:00")
		}
		h.From, h.To = from, to
		words = words[:len(words)-1]
	}
	if len(words) > 0 {
		h.Days = strings.Join(words, " ")
	}
	return api.Hours{Days: h.Days, From: h.From, To: h.To}, h.Validate()
}

// everything is what a receiver is told of that asks for nothing less.
var everything = []api.NoticeSubject{
	api.SubjectDone, api.SubjectBehind, api.SubjectProposal, api.SubjectProofs, api.SubjectStranded, api.SubjectHostLost, api.SubjectBacklogDone,
}

func subjectsText(all []api.NoticeSubject) string {
	if len(all) == len(everything) {
		return "everything"
	}
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = string(x)
	}
	return strings.Join(out, ", ")
}

func quietText(hours []api.Hours) string {
	if len(hours) == 0 {
		return none
	}
	return openText(hours)
}
