// Package media looks at files that a client brings, a logo or a price list, and makes the smaller pictures of one that a CMS keeps beside
// it.
//
//	f, err := media.Read("logo.png", content)             // what it is, by its own bytes; ErrRefused where a site must not have it
//	sizes, err := f.Sizes(ctx, []media.Size{{Name: "thumbnail", Width: 150, Height: 150, Crop: true}})
//
// Nothing is run, and a picture is decoded only when its head says that it is of a size that can be held.
package media

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/gif" // what can be decoded
	"image/jpeg"
	"image/png"
	"io"
	"path"
	"regexp"
	"strings"

	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp"

	"nestseed/internal/core/confine"
)

// MostBytes is how large a file may be.
const MostBytes = 20 << 20

// What is decoded of a picture: 25 megapixels, and 100 MiB, of which pictures with 16 bits a colour take twice as much.
const (
	mostPixels  = 25 << 20
	mostDecoded = 100 << 20
)

// ErrRefused says that a file is not one that a site takes from a client.
var ErrRefused = errors.New("the file is refused")

// File is a file from a client.
type File struct {
	Name          string // as it may stand in a folder and in an address
	Type          string // of its content (RFC 2046)
	Content       []byte
	Width, Height int // of a picture, in pixels; 0 for other files
}

// types are the files that a site may have from a client, by the ends of their names. What a browser or a web server would run, such as
// .php, .html and .svg, is not among them.
var types = map[string]string{
	".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".gif": "image/gif", ".webp": "image/webp",
	".pdf": "application/pdf", ".txt": "text/plain", ".csv": "text/csv", ".ics": "text/calendar", ".vcf": "text/vcard",
	".mp3": "audio/mpeg", ".ogg": "audio/ogg", ".m4a": "audio/mp4", ".mp4": "video/mp4", ".webm": "video/webm", ".zip": "application/zip",
	".odt": "application/vnd.oasis.opendocument.text", ".ods": "application/vnd.oasis.opendocument.spreadsheet",
	".docx": "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
	".xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
	".pptx": "application/vnd.openxmlformats-officedocument.presentationml.presentation",
}

// formats are the types of pictures by what package image calls them.
var formats = map[string]string{"png": "image/png", "jpeg": "image/jpeg", "gif": "image/gif", "webp": "image/webp"}

var unplain = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// Read looks at a file. Errors: ErrRefused.
func Read(name string, content []byte) (*File, error) {
	base := path.Base(strings.ReplaceAll(name, `\`, "/"))
	ext := strings.ToLower(path.Ext(base))
	f := &File{Type: types[ext], Content: content}
	switch {
	case f.Type == "":
		return nil, fmt.Errorf("%w: files like %s are not taken from clients; a picture is .png, .jpg, .gif or .webp, a document .pdf, "+
			".docx or .odt", ErrRefused, base)
	case len(content) == 0:
		return nil, fmt.Errorf("%w: %s is empty", ErrRefused, base)
	case len(content) > MostBytes:
		return nil, fmt.Errorf("%w: %s is larger than %d MB", ErrRefused, base, MostBytes>>20)
	}
	stem := strings.Trim(unplain.ReplaceAllString(strings.ReplaceAll(strings.TrimSuffix(base, path.Ext(base)), ".", "-"), "-"), "-_")
	if stem == "" {
		stem = "file"
	}
	f.Name = strings.ToLower(stem[:min(len(stem), 80)]) + ext
	if !strings.HasPrefix(f.Type, "image/") {
		return f, nil
	}
	head, format, err := image.DecodeConfig(bytes.NewReader(content))
	if err != nil || formats[format] != f.Type {
		return nil, fmt.Errorf("%w: %s is not a picture of the sort that its name says", ErrRefused, base)
	}
	if head.Width < 1 || head.Height < 1 || head.Width > mostPixels || head.Height > mostPixels || head.Width*head.Height > mostPixels ||
		head.Width*head.Height*pixelBytes(head.ColorModel) > mostDecoded {
		return nil, fmt.Errorf("%w: %s has %d x %d pixels; make it smaller first", ErrRefused, base, head.Width, head.Height)
	}
	f.Width, f.Height = head.Width, head.Height
	return f, nil
}

// pixelBytes is how many bytes a pixel takes when a picture is decoded.
func pixelBytes(m color.Model) int {
	switch m {
	case color.RGBA64Model, color.NRGBA64Model:
		return 8
	case color.Gray16Model:
		return 2
	}
	return 4
}

// IsPicture reports whether the file is one.
func (f *File) IsPicture() bool { return f.Width > 0 }

// Size is a size that a CMS keeps of each picture: it fits into Width and Height, of which 0 is any; with Crop it is cut to them.
type Size struct {
	Name          string
	Width, Height int
	Crop          bool
}

// Sized is a smaller picture.
type Sized struct {
	Size Size
	File
}

// Sizes makes those of the sizes that are smaller than the picture, in a confined process. Pictures that may move (GIF, WebP) and other
// files have none. Errors: ErrRefused.
func (f *File) Sizes(ctx context.Context, all []Size) (out []Sized, err error) {
	if f.Type != "image/png" && f.Type != "image/jpeg" {
		return nil, nil
	}
	var args []string
	for _, s := range all {
		from, w, h, is := s.of(f.Width, f.Height)
		if !is {
			continue
		}
		ext := path.Ext(f.Name)
		name := fmt.Sprintf("%s-%dx%d%s", strings.TrimSuffix(f.Name, ext), w, h, ext)
		out = append(out, Sized{s, File{Name: name, Type: f.Type, Width: w, Height: h}})
		args = append(args, fmt.Sprint(from.Min.X, " ", from.Min.Y, " ", from.Max.X, " ", from.Max.Y, " ", w, " ", h))
	}
	if len(out) == 0 {
		return nil, nil
	}
	r, err := shrink.Start(ctx, bytes.NewReader(f.Content), append([]string{f.Type}, args...)...)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	for i := range out {
		var length uint32
		if err := binary.Read(r, binary.BigEndian, &length); err != nil {
			return nil, fmt.Errorf("%w: %s cannot be read: %w", ErrRefused, f.Name, err)
		}
		if length > MostBytes {
			return nil, fmt.Errorf("%w: %s becomes larger than %d MB", ErrRefused, f.Name, MostBytes>>20)
		}
		out[i].Content = make([]byte, length)
		if _, err := io.ReadFull(r, out[i].Content); err != nil {
			return nil, fmt.Errorf("%w: %s cannot be read: %w", ErrRefused, f.Name, err)
		}
	}
	return out, nil
}

// shrink reads a picture, and writes for each argument "x0 y0 x1 y1 width height" that part of it in that size: its length, in four bytes,
// and the picture.
var shrink = confine.Register("shrink", func(args []string, in io.Reader, out io.Writer) error {
	whole, _, err := image.Decode(in)
	if err != nil {
		return err
	}
	for _, arg := range args[1:] {
		var from image.Rectangle
		var w, h int
		if _, err := fmt.Sscan(arg, &from.Min.X, &from.Min.Y, &from.Max.X, &from.Max.Y, &w, &h); err != nil {
			return err
		}
		small := image.NewNRGBA(image.Rect(0, 0, w, h))
		scale(small, whole, from.Add(whole.Bounds().Min))
		var content bytes.Buffer
		if args[0] == "image/jpeg" {
			err = jpeg.Encode(&content, small, &jpeg.Options{Quality: 82})
		} else {
			err = png.Encode(&content, small)
		}
		if err == nil {
			err = binary.Write(out, binary.BigEndian, uint32(content.Len())) //nolint:gosec // bounded by the size of the picture
		}
		if err == nil {
			_, err = content.WriteTo(out)
		}
		if err != nil {
			return err
		}
	}
	return nil
})

// bandBytes is what the scaler may keep between its two passes: 32 bytes for each pixel of a band, as wide as the result and as high as
// what it is made from.
const bandBytes = 48 << 20

// scale makes a part of a picture smaller, in bands where it is large. Each is made from as many rows more as the kernel reaches, so that
// the bands meet.
func scale(to *image.NRGBA, whole image.Image, from image.Rectangle) {
	w, h := to.Rect.Dx(), to.Rect.Dy()
	rows := max(1, bandBytes/32/max(1, w)*h/max(1, from.Dy())) // of the result, in a band
	if rows >= h {
		draw.CatmullRom.Scale(to, to.Rect, whole, from, draw.Src, nil)
		return
	}
	const reach = 4 // rows of the result
	for y := 0; y < h; y += rows {
		first, last := max(0, y-reach), min(h, y+rows+reach)
		part := image.NewNRGBA(image.Rect(0, 0, w, last-first))
		top, bottom := from.Min.Y+first*from.Dy()/h, from.Min.Y+last*from.Dy()/h
		draw.CatmullRom.Scale(part, part.Rect, whole, image.Rect(from.Min.X, top, from.Max.X, bottom), draw.Src, nil)
		draw.Draw(to, image.Rect(0, y, w, min(h, y+rows)), part, image.Pt(0, y-first), draw.Src)
	}
}

// of returns the part of a picture that a size shows, and how large that becomes; false where the picture is no larger than that.
func (s Size) of(width, height int) (from image.Rectangle, w, h int, is bool) {
	w, h = s.Width, s.Height
	if w <= 0 && h <= 0 || (w <= 0 || width <= w) && (h <= 0 || height <= h) {
		return from, 0, 0, false
	}
	if !s.Crop || w <= 0 || h <= 0 {
		scale := 1.0
		if w > 0 {
			scale = min(scale, float64(w)/float64(width))
		}
		if h > 0 {
			scale = min(scale, float64(h)/float64(height))
		}
		return image.Rect(0, 0, width, height), max(1, int(float64(width)*scale+0.5)), max(1, int(float64(height)*scale+0.5)), true
	}
	w, h = min(w, width), min(h, height)
	scale := max(float64(w)/float64(width), float64(h)/float64(height))
	cw, ch := min(width, int(float64(w)/scale+0.5)), min(height, int(float64(h)/scale+0.5))
	x, y := (width-cw)/2, (height-ch)/2
	return image.Rect(x, y, x+cw, y+ch), w, h, true
}
