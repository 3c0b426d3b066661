package provision

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"nestseed/internal/core/kind"
	"nestseed/internal/core/phpval"
)

// makeAdministrator inserts the rows of the kind's recipe and gives the content to the new account.
func (mk *maker) makeAdministrator(ctx context.Context) error {
	a := mk.req.Kind.Admin
	if kept, err := mk.accountsStay(ctx); kept || err != nil || len(a.Rows) == 0 {
		return err
	}
	scheme := a.Scheme(mk.req.Archive.Manifest.Version)
	of := kind.Account{Login: mk.plan.Admin, Password: mk.result.AdminPassword, Salt: kind.NewSalt()}
	// An account of that name that came with a whole site is the administrator's.
	if there, err := setPassword(ctx, mk.db, mk.req.Kind, mk.plan.Prefix, scheme, of); there || err != nil {
		return err
	}
	hash, err := kind.Hash(scheme, of)
	if err != nil {
		return err
	}
	id, err := mk.insertAdministrator(ctx, hash, of.Salt)
	if err != nil {
		return err
	}
	if !slices.Contains(mk.req.Archive.Manifest.List.Empty, a.Rows[0].Table) && !mk.keepsFew(a.Rows[0].Table) {
		return nil // the release keeps its accounts, and content stays theirs
	}
	return mk.giveContent(ctx, id)
}

// keepsFew reports whether the release holds chosen rows of a table only.
func (mk *maker) keepsFew(table string) bool {
	return slices.ContainsFunc(mk.req.Archive.Manifest.List.KeepRows, func(r kind.Rows) bool { return r.Table == table })
}

// insertAdministrator inserts the rows of an administrator, and returns the number of the account.
func (mk *maker) insertAdministrator(ctx context.Context, hash, salt string) (id string, err error) {
	fill := strings.NewReplacer("{login}", mk.plan.Admin, "{email}", mk.req.Values["email"].Value, "{hash}", hash,
		"{salt}", salt, "{now}", now(),
		"{unix}", strconv.FormatInt(time.Now().Unix(), 10), "{prefix}", mk.plan.Prefix)
	for i, row := range mk.req.Kind.Admin.Rows {
		values := map[string]string{}
		for column, value := range row.Values {
			if value == "{next}" {
				if id, err = mk.next(ctx, row.Table, column); err != nil {
					return "", err
				}
				value = id
			}
			values[column] = strings.NewReplacer("{id}", id, "{uuid}", uuid()).Replace(fill.Replace(value))
		}
		last, err := mk.db.Insert(ctx, mk.table(row.Table), values)
		if err != nil {
			return "", err
		}
		if i == 0 && id == "" {
			id = strconv.FormatInt(last, 10)
		}
	}
	return id, mk.networkRows(ctx, strings.NewReplacer("{id}", id, "{login:php}", string(phpval.AppendString(nil, mk.plan.Admin)),
		"{email}", mk.req.Values["email"].Value))
}

// next returns one more than the highest number in a column.
func (mk *maker) next(ctx context.Context, table, column string) (string, error) {
	highest := int64(0)
	err := mk.db.Select(ctx, mk.table(table), []string{column}, "", nil, func(row [][]byte) error {
		n, err := strconv.ParseInt(string(row[0]), 10, 64)
		highest = max(highest, n)
		return err
	})
	return strconv.FormatInt(highest+1, 10), err
}

// uuid returns a random UUID (RFC 9562, version 4).
func uuid() string {
	var b [16]byte
	rand.Read(b[:])
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// giveContent makes an account the author of everything.
func (mk *maker) giveContent(ctx context.Context, account string) error {
	for _, c := range mk.req.Kind.Admin.Authors {
		if !mk.hasTable(c.Table) {
			continue
		}
		if err := mk.db.SetColumn(ctx, mk.table(c.Table), c.Column, account); err != nil {
			return err
		}
	}
	return nil
}

// accountsStay reports whether the accounts that are there are those that log in: they were taken over from the
// old site, or the release is of this very site. Content then belongs to them.
func (mk *maker) accountsStay(ctx context.Context) (bool, error) {
	a := mk.req.Kind.Admin
	admin := mk.req.Admin
	if mk.req.Replace != nil {
		admin = mk.req.Replace.Admin
	}
	if admin == "" {
		return false, nil
	}
	table, login, _, _, ok := a.Account()
	if !ok && mk.req.Admin == "" {
		return false, nil // they are in the settings file, which is the release's
	}
	emptied := ok && (slices.Contains(mk.req.Archive.Manifest.List.Empty, table) || mk.keepsFew(table))
	if emptied && !mk.keepsAccounts() {
		return false, nil
	}
	if ok {
		if _, found, err := mk.db.Lookup(ctx, mk.table(table), login, admin, login); err != nil || !found {
			return false, err
		}
	}
	mk.result.KeptAccounts = true
	mk.result.Admin, mk.result.AdminPassword = admin, ""
	if !emptied {
		return true, nil
	}
	// The release's content has lost its authors; it is given to the administrator who stays.
	id, err := mk.accountID(ctx, admin)
	if err != nil {
		return false, err
	}
	return true, mk.giveContent(ctx, id)
}

// accountID returns the number of an account.
func (mk *maker) accountID(ctx context.Context, admin string) (string, error) {
	table, login, _, id, _ := mk.req.Kind.Admin.Account()
	for _, rel := range mk.req.Kind.Relations {
		if id == "" && rel.To.Table == table {
			id = rel.To.Column
		}
	}
	if id != "" {
		if n, found, err := mk.db.Lookup(ctx, mk.table(table), login, admin, id); err != nil || found {
			return n, err
		}
	}
	return "", fmt.Errorf("there is no account %s", admin)
}
