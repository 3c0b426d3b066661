package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

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
	say("The service, with nothing in it")
	if err := d.startService(); err != nil {
		return err
	}
	password, err := os.ReadFile(d.passwordFile())
	if err != nil {
		return err
	}
	fmt.Printf("\nconsole  http://%s, as owner with the password %s\nstop it with: make stop\n", d.listen(), password)
	return nil
}
