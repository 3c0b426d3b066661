package sidebyside

import (
	"image"
	"image/color"
	"image/draw"
)

const (
	block     = 16 // pixels; differences are found block by block
	tolerance = 24 // of 255, by which a colour may be off: edges of letters are never twice the same
	enough    = 4  // pixels of a block that must differ
)

// mark is the colour of frames: it shows on light pages and on dark ones.
var mark = color.RGBA{0xd1, 0x3f, 0x0a, 0xff}

// Differ returns frames around the places in which two pictures differ, and the share of their common height, 0 to 1,
// that is within differing blocks. What one has below the end of the other differs.
func Differ(a, b image.Image) (frames []image.Rectangle, share float64) {
	width := min(a.Bounds().Dx(), b.Bounds().Dx())
	height := max(a.Bounds().Dy(), b.Bounds().Dy())
	columns, rows := (width+block-1)/block, (height+block-1)/block
	if columns == 0 || rows == 0 {
		return nil, 0
	}
	x, y := rgba(a), rgba(b)
	differs := make([]bool, columns*rows)
	n := 0
	for r := range rows {
		for c := range columns {
			if blockDiffers(x, y, c*block, r*block) {
				differs[r*columns+c] = true
				n++
			}
		}
	}
	return grouped(differs, columns, rows), float64(n) / float64(columns*rows)
}

func rgba(m image.Image) *image.RGBA {
	out := image.NewRGBA(image.Rect(0, 0, m.Bounds().Dx(), m.Bounds().Dy()))
	draw.Draw(out, out.Bounds(), m, m.Bounds().Min, draw.Src)
	return out
}

func blockDiffers(a, b *image.RGBA, left, top int) bool {
	n := 0
	for y := top; y < top+block; y++ {
		for x := left; x < left+block; x++ {
			at := image.Pt(x, y)
			if !at.In(a.Rect) && !at.In(b.Rect) {
				continue
			}
			if !at.In(a.Rect) || !at.In(b.Rect) || off(a.Pix[a.PixOffset(x, y):], b.Pix[b.PixOffset(x, y):]) {
				if n++; n >= enough {
					return true
				}
			}
		}
	}
	return false
}

func off(a, b []uint8) bool {
	for i := range 3 {
		if d := int(a[i]) - int(b[i]); d > tolerance || d < -tolerance {
			return true
		}
	}
	return false
}

// grouped puts frames around blocks that touch, or lie one block apart: the letters of a word are one place.
func grouped(differs []bool, columns, rows int) (frames []image.Rectangle) {
	const reach = 2
	for start := range differs {
		if !differs[start] {
			continue
		}
		differs[start] = false
		frame := image.Rectangle{}
		for queue := []int{start}; len(queue) > 0; {
			at := queue[len(queue)-1]
			queue = queue[:len(queue)-1]
			r, c := at/columns, at%columns
			frame = frame.Union(image.Rect(c*block, r*block, (c+1)*block, (r+1)*block))
			for i := max(0, r-reach); i <= min(rows-1, r+reach); i++ {
				for j := max(0, c-reach); j <= min(columns-1, c+reach); j++ {
					if next := i*columns + j; differs[next] {
						differs[next] = false
						queue = append(queue, next)
					}
				}
			}
		}
		frames = append(frames, frame)
	}
	return frames
}

// Mark draws frames on a copy of a picture.
func Mark(m image.Image, frames []image.Rectangle) *image.RGBA {
	const line = 3
	out := rgba(m)
	for _, f := range frames {
		f = f.Inset(-line).Intersect(out.Bounds())
		for _, edge := range []image.Rectangle{
			{f.Min, image.Pt(f.Max.X, f.Min.Y+line)}, {image.Pt(f.Min.X, f.Max.Y-line), f.Max},
			{f.Min, image.Pt(f.Min.X+line, f.Max.Y)}, {image.Pt(f.Max.X-line, f.Min.Y), f.Max},
		} {
			draw.Draw(out, edge.Intersect(f), image.NewUniform(mark), image.Point{}, draw.Src)
		}
	}
	return out
}
