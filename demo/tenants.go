package main

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"nestseed/demo/scenario"
	"nestseed/internal/client"
)

// summerCourses is an install whose code ten schools share: each has a small site of its own for its summer course.
const summerCourses = "summer-courses"

// tenants are sites that share the code of an install, all made from one table.
func (d *demo) tenants(ctx context.Context, svc *client.Client) error {
	d.begin("Ten summer courses that share one copy of the code")
	table := filepath.Join(d.dir, "summer-courses.csv")
	f, err := os.Create(table)
	if err != nil {
		return err
	}
	rows := [][]string{{"client", "name", "title", "email", "contact", "phone", "measurement", "booking_licence"}}
	for _, s := range scenario.Schools(10) {
		row := []string{s.Name, s.Name + "-summer", "Summer course of " + s.Title}
		for _, key := range rows[0][3:] {
			row = append(row, s.Settings[key])
		}
		rows = append(rows, row)
	}
	if err := errors.Join(csv.NewWriter(f).WriteAll(rows), f.Close()); err != nil {
		return err
	}
	last := scenario.Schools(10)[9].Name + "-summer"
	return d.steps(ctx, []step{
		{exists(svc.Host, ctx, "shared"), []string{"host", "add", "shared", "--files", "file://" + d.stack.Sites() + "?owner=www-data", "--web-root", "{name}",
			"--address", d.stack.SharedAddress("{name}"), "--database", fmt.Sprintf("mysql://%s@127.0.0.1:%d/", d.stack.AdminUser, d.stack.DatabasePort)}},
		{exists(svc.Install, ctx, summerCourses), []string{"install", "add", summerCourses, "--from", "music-base", "--host", "shared"}},
		{exists(svc.Site, ctx, last), []string{"site", "provision", "--table", table, "--tenant-of", summerCourses}},
	})
}
