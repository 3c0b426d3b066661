package archive

import (
	"bytes"
	"fmt"
	"strings"

	"nestseed/internal/core/sqltext"
)

// JudgeSQL reads the definitions of an archive that came from outside, and refuses what a hostile one could use
// to reach other data on the server it is loaded into. Views, triggers and routines are programs that run with
// the rights of whoever loads them; they are refused unless trusted says that the archive is one's own.
// Errors: ErrHostile.
func (a *Archive) JudgeSQL(trusted bool) error {
	for _, name := range []string{SchemaName, AfterName} {
		text, err := a.Schema(name)
		if err != nil {
			return err
		}
		sc := sqltext.NewScript(bytes.NewReader(text))
		for sc.Next() {
			if sc.Insertion() != nil {
				return fmt.Errorf("%w: %s holds rows", ErrHostile, name)
			}
			if err := judgeStatement(sc.Statement(), trusted); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
		if sc.Err() != nil {
			return fmt.Errorf("%s: %w: %v", name, ErrDamaged, sc.Err())
		}
	}
	return nil
}

func judgeStatement(stmt []byte, trusted bool) error {
	head := strings.ToUpper(string(stmt[:min(len(stmt), 200)]))
	switch {
	case strings.HasPrefix(head, "SET NAMES "), strings.HasPrefix(head, "SET SESSION ") && !strings.Contains(string(stmt), "("):
		return nil
	case strings.HasPrefix(head, "CREATE TABLE "):
		if _, err := sqltext.ParseDefinition(stmt); err != nil && !trusted {
			return fmt.Errorf("%w: %v", ErrHostile, err)
		}
		return nil
	case strings.HasPrefix(head, "ALTER TABLE "):
		name, rest := sqltext.CutName(stmt[len("ALTER TABLE "):])
		d := &sqltext.Definition{Table: name}
		if err := d.Alter(rest); err != nil && !trusted {
			return fmt.Errorf("%w: %v", ErrHostile, err)
		}
		return nil
	case trusted && strings.HasPrefix(head, "CREATE "):
		return nil
	}
	return fmt.Errorf("%w: the statement %.60q is a program, not a table; import the archive with --trust if it is your own", ErrHostile, stmt)
}
