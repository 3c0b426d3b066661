package provision

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"nestseed/internal/core/archive"
	"nestseed/internal/core/hostfs"
	"nestseed/internal/core/kind"
	"nestseed/internal/core/media"
	"nestseed/internal/core/packing"
	"nestseed/internal/core/phpval"
	"nestseed/internal/core/sitevalue"
)

// clientFile is a file of the client's on the new site.
type clientFile struct {
	*media.File
	below string // where it lies, below the folder of media
	at    string // below the site's folder
	id    string // the number that it has on the site; "" where the kind gives none, or it is not placed yet
}

// readFiles reads the files that are values of fields, and decides where they go: beside no file of the release. Errors: ErrPlan.
func (mk *maker) readFiles(ctx context.Context) error {
	mk.files = map[string]*clientFile{}
	m := mk.req.Kind.Media
	taken := map[string]bool{}
	for _, f := range mk.req.Archive.Manifest.List.Fields {
		value, give := mk.plainValueOf(f)
		if !f.IsFile() || !give || mk.req.Refresh != nil {
			continue
		}
		if m.Folder == "" || mk.req.Files == nil {
			return fmt.Errorf("%w: field %s: nothing says where sites of %s have pictures and files", ErrPlan, f.Key, mk.req.Kind.Title)
		}
		name, content, err := mk.req.Files(ctx, value)
		if err != nil {
			return fmt.Errorf("field %s: %w", f.Key, err)
		}
		file, err := media.Read(name, content)
		if err == nil && f.Type == "image" && !file.IsPicture() {
			err = fmt.Errorf("%w: %s is not a picture", media.ErrRefused, name)
		}
		if err != nil {
			return fmt.Errorf("%w: field %s: %w", ErrPlan, f.Key, err)
		}
		folder := ""
		if m.ByMonth {
			folder = time.Now().UTC().Format("2006/01")
		}
		ext := path.Ext(file.Name)
		stem := strings.TrimSuffix(file.Name, ext)
		for n := 2; taken[path.Join(m.Folder, folder, file.Name)] ||
			mk.req.Archive.Entry(archive.FilesDir+path.Join(m.Folder, folder, file.Name)) != nil; n++ {
			file.Name = fmt.Sprintf("%s-%d%s", stem, n, ext)
		}
		c := &clientFile{File: file, below: path.Join(folder, file.Name), at: path.Join(m.Folder, folder, file.Name)}
		taken[c.at] = true
		mk.files[f.Key] = c
	}
	return nil
}

// as returns what of a file is put into a place.
func (mk *maker) as(c *clientFile, t packing.Target) (string, error) {
	as := cmp.Or(t.As, map[bool]string{true: "id", false: "url"}[t.Place().InDatabase() && len(mk.req.Kind.Media.Entry) > 0])
	switch as {
	case "path":
		return c.at, nil
	case "id":
		if c.id == "" {
			return "", fmt.Errorf("%w: %s gives files no numbers that could stand in %s; write as: url there", ErrPlan, mk.req.Kind.Title, t)
		}
		return c.id, nil
	}
	return strings.TrimRight(mk.plan.Address, "/") + "/" + c.at, nil
}

// placeClientFiles puts the client's files into the site, with the sizes that the kind keeps of pictures, and the rows that it has of each.
func (mk *maker) placeClientFiles(ctx context.Context) error {
	for _, f := range mk.req.Archive.Manifest.List.Fields {
		c := mk.files[f.Key]
		if c == nil {
			continue
		}
		folder := path.Dir(c.at)
		if err := mk.folder(ctx, folder); err != nil {
			return err
		}
		sizes, err := mk.sizes(ctx, c.File)
		if err != nil {
			return fmt.Errorf("field %s: %w", f.Key, err)
		}
		for _, file := range append([]media.Sized{{File: *c.File}}, sizes...) {
			if err := hostfs.WriteFile(ctx, mk.stage, path.Join(folder, file.Name), file.Content, 0o644); err != nil {
				return err
			}
		}
		if err := mk.enter(ctx, f, c, sizes); err != nil {
			return fmt.Errorf("field %s: %w", f.Key, err)
		}
	}
	return nil
}

// sizes makes the smaller pictures that the CMS keeps, as large as its options say.
func (mk *maker) sizes(ctx context.Context, f *media.File) ([]media.Sized, error) {
	site := mk.site()
	number := func(option string, otherwise int) int {
		if option == "" {
			return otherwise
		}
		text, found, err := site.Get(ctx, kind.Value{Option: option})
		if n, parseErr := strconv.Atoi(text); err == nil && parseErr == nil && found && n >= 0 {
			return n
		}
		return otherwise
	}
	var all []media.Size
	for _, s := range mk.req.Kind.Media.Sizes {
		crop := 0
		if s.Crop {
			crop = 1
		}
		all = append(all, media.Size{Name: s.Name, Width: number(s.WidthOption, s.Width), Height: number(s.HeightOption, s.Height),
			Crop: number(s.CropOption, crop) == 1})
	}
	return f.Sizes(ctx, all)
}

// enter inserts the rows that the CMS has of a file.
func (mk *maker) enter(ctx context.Context, f packing.Field, c *clientFile, sizes []media.Sized) error {
	rows := mk.req.Kind.Media.Entry
	if len(rows) == 0 || !mk.hasTable(rows[0].Table) {
		return nil
	}
	url := strings.TrimRight(mk.plan.Address, "/") + "/" + c.at
	slug := strings.TrimSuffix(c.Name, path.Ext(c.Name))
	fill := strings.NewReplacer("{now}", now(), "{unix}", strconv.FormatInt(time.Now().Unix(), 10), "{title}", cmp.Or(f.Label, slug),
		"{slug}", slug, "{file}", c.Name, "{path}", c.below, "{url}", url, "{mime}", c.Type, "{bytes}", strconv.Itoa(len(c.Content)),
		"{facts}", string(mk.factsOf(c, sizes)))
	for i, row := range rows {
		if row.Values["meta_value"] == "{facts}" && !c.IsPicture() {
			continue
		}
		values := map[string]string{}
		for column, value := range row.Values {
			values[column] = strings.NewReplacer("{id}", c.id, "{uuid}", uuid()).Replace(fill.Replace(value))
		}
		last, err := mk.db.Insert(ctx, mk.table(row.Table), values)
		if err != nil {
			return err
		}
		if i == 0 {
			c.id = strconv.FormatInt(last, 10)
		}
	}
	return nil
}

// factsOf writes down what a CMS knows of a picture (see kind.SerialisedAttachment).
func (mk *maker) factsOf(c *clientFile, sizes []media.Sized) []byte {
	if mk.req.Kind.Media.Facts == "" || !c.IsPicture() {
		return nil
	}
	number := func(n int) []byte { return fmt.Appendf(nil, "i:%d;", n) }
	text := func(s string) []byte { return phpval.AppendString(nil, s) }
	named := func(key string, value []byte) phpval.Member { return phpval.Member{Key: key, Value: value} }
	array := func(members ...phpval.Member) []byte { return phpval.AppendArray(nil, members) }
	var made []phpval.Member
	for _, s := range sizes {
		made = append(made, named(s.Size.Name, array(named("file", text(s.Name)), named("width", number(s.Width)),
			named("height", number(s.Height)), named("mime-type", text(s.Type)), named("filesize", number(len(s.Content))))))
	}
	return array(named("width", number(c.Width)), named("height", number(c.Height)), named("file", text(c.below)),
		named("filesize", number(len(c.Content))), named("sizes", array(made...)), named("image_meta", array()))
}

// numberOf returns the number of a page, or of a menu's entry, that people call by a name. Errors: ErrPlan.
func (mk *maker) numberOf(ctx context.Context, what, name string) (number string, err error) {
	ways := []kind.Called{mk.req.Kind.Named}
	noun, help := "page", "give the last part of its address, or its title"
	if what == "menu-entry" {
		ways, noun, help = mk.req.Kind.Entries, "entry of a menu", "give its title, or that of the page it leads to"
	}
	if len(ways) == 0 || ways[0].Table == "" {
		return "", fmt.Errorf("%w: nothing says how a %s of %s is found", ErrPlan, noun, mk.req.Kind.Title)
	}
	for _, way := range ways {
		called := name
		if way.Leads {
			if called, err = mk.find(ctx, mk.req.Kind.Named, name); err != nil {
				return "", err
			}
		}
		if number, err = mk.find(ctx, way, called); err != nil || number != "" {
			return number, err
		}
	}
	return "", fmt.Errorf("%w: there is no %s called %q; %s", ErrPlan, noun, name, help)
}

// find returns the number of what is called by a name, the lowest where several are; "" where nothing is.
func (mk *maker) find(ctx context.Context, c kind.Called, name string) (number string, err error) {
	if name == "" {
		return "", nil
	}
	for _, by := range c.By {
		var numbers []string
		err = mk.db.Select(ctx, mk.table(c.Table), []string{c.Key, c.Where}, by, []string{name}, func(row [][]byte) error {
			if slices.Contains(c.Is, string(row[1])) {
				numbers = append(numbers, string(row[0]))
			}
			return nil
		})
		if err != nil {
			return "", err
		}
		slices.SortFunc(numbers, func(a, b string) int { return cmp.Or(len(a)-len(b), strings.Compare(a, b)) })
		for _, n := range numbers {
			if agrees, err := mk.agrees(ctx, c, n); err != nil || agrees {
				return n, err
			}
		}
	}
	return "", nil
}

// agrees reports whether all rows are there that what was found has to have.
func (mk *maker) agrees(ctx context.Context, c kind.Called, number string) (bool, error) {
	for _, a := range c.Agrees {
		there := false
		columns := []string{a.Column, cmp.Or(a.Where, a.Column)}
		err := mk.db.Select(ctx, mk.table(a.Table), columns, a.Key, []string{number}, func(row [][]byte) error {
			there = there || slices.Contains(a.Is, string(row[0])) && (a.Where == "" || string(row[1]) == a.Like)
			return nil
		})
		if err != nil || !there {
			return false, err
		}
	}
	return true, nil
}

// put puts a value into a place of the database.
func (mk *maker) put(ctx context.Context, f packing.Field, t packing.Target, value string) error {
	err := mk.site().Set(ctx, mk.db, t.Place(), value)
	if errors.Is(err, sitevalue.ErrNoPlace) {
		return fmt.Errorf("field %s: %w; correct the field in the packing list and build again", f.Key, err)
	}
	if err != nil {
		return fmt.Errorf("field %s, %s: %w", f.Key, t, err)
	}
	return nil
}
