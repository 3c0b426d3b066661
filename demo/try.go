package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"nestseed/demo/scenario"
)

// trying is the folder of a service that has nothing in it.
const trying = "try"

// try starts the servers, with the agency's base site, and a service with nothing in it that offers them to begin with.
func (d *demo) try(ctx context.Context) error {
	if _, runs := d.servicePID(); runs {
		return errors.New("the demo runs already, with all its sites; make stop ends it")
	}
	if err := d.servers(ctx); err != nil {
		return err
	}
	text, err := json.Marshal(scenario.Sample(d.stack))
	if err == nil {
		err = os.WriteFile(filepath.Join(d.dir, "sample.json"), text, 0o600)
	}
	if err != nil {
		return err
	}
	d.state = trying
	d.begin("The service, with nothing in it")
	if err := d.startService(); err != nil {
		return err
	}
	password, err := os.ReadFile(d.passwordFile())
	if err != nil {
		return err
	}
	d.end()
	fmt.Printf("\nAfter %.0f s: a service with nothing in it, which offers the agency's base site to begin with.\n\n", d.seconds())
	fmt.Printf("  the base site      %s\n  console            http://%s  log in as owner with %s\n", d.stack.Address("base"), d.listen(), strings.TrimSpace(string(password)))
	fmt.Printf("  try next           log in, and take the base site that Today offers\n  stop it            make stop\n")
	return nil
}
