package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"nestseed/internal/wire"
)

func (a *app) siteDNS(ctx context.Context, c *cli.Command, args []string) error {
	svc, err := a.service(c)
	if err != nil {
		return err
	}
	d, err := svc.DNS(ctx, args[0], c.StringSlice("name-servers"))
	if err != nil {
		return err
	}
	if file := c.String("zone-file"); file != "" {
		if err := os.WriteFile(file, []byte(d.ZoneFile), 0o644); err != nil {
			return err
		}
	}
	return a.print(c, d, func() { a.printDNS(d, c.String("zone-file")) })
}

func (a *app) printDNS(d wire.DNS, file string) {
	for _, sentence := range d.Sentences {
		fmt.Fprintln(a.out, sentence)
	}
	fmt.Fprintln(a.out)
	var rows [][]string
	add := func(who string, answers []wire.DNSAnswer) {
		for _, n := range answers {
			rows = append(rows, []string{who, n.Server, cmp.Or(strings.Join(n.Addresses, ", "), n.Error, "nowhere")})
		}
	}
	add("its own name server", d.NameServers)
	add("resolver", d.Resolvers)
	table(a.out, []string{"asked", "server", "leads to"}, rows)
	a.printRecords("mail depends on", d.Mail)
	a.printRecords("would be lost", d.Lost)
	if file != "" {
		fmt.Fprintf(a.out, "\nwritten to %s\n", file)
	}
}

func (a *app) printRecords(title string, records []wire.DNSRecord) {
	if len(records) == 0 {
		return
	}
	rows := make([][]string, len(records))
	for i, r := range records {
		rows[i] = []string{r.Name, r.Type, r.Value}
	}
	fmt.Fprintln(a.out)
	table(a.out, []string{title, "", ""}, rows)
}
