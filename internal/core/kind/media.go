package kind

import "fmt"

// Media says where pictures and files lie that people put on a site, and how rows point at them: values of a column, in the rows whose key
// is one of Files, are paths below Folder. In the rows whose key is one of Derived, a serialised value names files beside the first.
type Media struct {
	Folder  string   `yaml:"folder"`
	Table   string   `yaml:"table"`
	Key     string   `yaml:"key"`
	Value   string   `yaml:"value"`
	Files   []string `yaml:"files"`
	Derived []string `yaml:"derived"`
	// ByMonth says that new files go into folders of year and month below Folder.
	ByMonth bool `yaml:"by-month"`
	// Entry are the rows of a new file, inserted in order, whose first has its number. Values may hold {id}, {uuid}, {now}, {unix}, {title},
	// {slug}, {file} (its name), {path} (below Folder), {url}, {mime}, {bytes}, and {facts}: what Facts makes of a picture.
	Entry []struct {
		Table  string            `yaml:"table"`
		Values map[string]string `yaml:"values"`
	} `yaml:"entry"`
	// Facts is how a CMS writes down what it knows of a picture and its sizes: "serialised-attachment", or nothing.
	Facts string `yaml:"facts"`
	// Sizes are the sizes that a CMS keeps of each picture. The options of that name, where they are, go before the numbers.
	Sizes []struct {
		Name         string `yaml:"name"`
		Width        int    `yaml:"width"`
		Height       int    `yaml:"height"`
		Crop         bool   `yaml:"crop"`
		WidthOption  string `yaml:"width-option"`
		HeightOption string `yaml:"height-option"`
		CropOption   string `yaml:"crop-option"`
	} `yaml:"sizes"`
}

// SerialisedAttachment is how WordPress writes down what it knows of a picture: as a serialised array (WordPress Developer Resources,
// wp_get_attachment_metadata).
const SerialisedAttachment = "serialised-attachment"

func (m Media) valid() error {
	if m.Facts != "" && m.Facts != SerialisedAttachment {
		return fmt.Errorf("media.facts: %q is not known; it is %s, or nothing", m.Facts, SerialisedAttachment)
	}
	if len(m.Entry) > 0 && m.Folder == "" {
		return fmt.Errorf("media.entry: say in which folder the files lie")
	}
	return nil
}

// Called says how a page, or an entry of a menu, is found by what people call it: the row of Table in which one of the columns By has
// that, and Where one of Is.
type Called struct {
	Table string   `yaml:"table"`
	Key   string   `yaml:"key"` // the column with its number
	By    []string `yaml:"by"`
	Where string   `yaml:"where"`
	Is    []string `yaml:"is"`
	// Leads is of an entry that is called by the page it leads to: By has the number of that page.
	Leads bool `yaml:"leads"`
	// Agrees are further rows of what was found that have to be there.
	Agrees []Agrees `yaml:"agrees"`
}

// Agrees is a row of Table with the number in Key that has one of Is in Column and, where Where names a column, Like in that.
type Agrees struct {
	Table  string   `yaml:"table"`
	Key    string   `yaml:"key"`
	Where  string   `yaml:"where"`
	Like   string   `yaml:"like"`
	Column string   `yaml:"column"`
	Is     []string `yaml:"is"`
}
