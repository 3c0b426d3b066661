package main

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"nestseed/demo/scenario"
	"nestseed/internal/wire"
)

// tenants provisions a hundred sites that share the code of an install from one table, and a hundred with code of their own, and says
// what each takes on the disk. Of folders that share data by reflinks du counts each whole, so the free space is looked at as well.
func (b *bench) tenants() error {
	n := max(2, 100*b.mb/800)
	if _, _, err := b.wait(b.svc.BuildRelease(b.ctx, "music-base", wire.NewRelease{})); err != nil {
		return err
	}
	if _, took, err := b.wait(b.svc.AddInstall(b.ctx, wire.NewInstall{Name: "schools", From: "music-base", Host: "shared"})); err != nil {
		return err
	} else {
		report("place the code of an install", took, "", 0, "")
	}
	tenants := wire.NewTable{TenantOf: "schools"}
	separate := wire.NewTable{From: "music-base", Host: "preview"}
	for i := range n {
		set := scenario.Schools(1)[0].Settings
		client := fmt.Sprintf("branch-%03d", i+1)
		tenants.Rows = append(tenants.Rows, wire.TableRow{Client: client, Name: "shared-" + client, Set: set})
		separate.Rows = append(separate.Rows, wire.TableRow{Client: client, Name: "alone-" + client, Set: set})
	}
	shared, took, err := b.tableOnDisk(tenants, "shared-* .installs")
	if err != nil {
		return err
	}
	report(fmt.Sprintf("provision %d tenants from a table, checks included", n), took, "", 0, "60 s for a hundred")
	alone, took, err := b.tableOnDisk(separate, "alone-*")
	if err != nil {
		return err
	}
	report(fmt.Sprintf("provision %d sites of their own, checks included", n), took, "", 0, "")
	fmt.Printf("    files of %d tenants and their code %d MB, of as many sites of their own %d MB\n", n, shared>>20, alone>>20)
	return nil
}

// tableOnDisk makes the sites of a table and returns how many bytes their folders take up on the disk.
func (b *bench) tableOnDisk(in wire.NewTable, folders string) (bytes int64, took time.Duration, err error) {
	run, took, err := b.wait(b.svc.ProvisionTable(b.ctx, in))
	if err != nil {
		return 0, 0, err
	}
	fmt.Println("   ", steps(run))
	out, err := b.shellOut(fmt.Sprintf("cd %s && du -sc --block-size=1 %s | tail -n 1 | cut -f 1", b.stack.Sites(), folders))
	if err != nil {
		return 0, 0, err
	}
	bytes, err = strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
	return bytes, took, err
}
