package records

import "context"

// Agency is whose service it is, as its clients see it. What is empty is not shown.
type Agency struct {
	Name    string
	Contact string // an address for mail, a number, or words
	Colour  string // like #1c6b4f
	Logo    []byte // a picture
}

// Agency returns it.
func (db *DB) Agency(ctx context.Context) (Agency, error) {
	return one[Agency](ctx, db, "agency", "", "SELECT name, contact, colour, logo FROM agency")
}

// SetAgency replaces all of it.
func (db *DB) SetAgency(ctx context.Context, a Agency) error {
	return db.exec(ctx, "agency", "", "UPDATE agency SET name = $1, contact = $2, colour = $3, logo = $4", a.Name, a.Contact, a.Colour, a.Logo)
}
