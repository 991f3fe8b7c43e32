package picture

import (
	"image"
	"image/color"

	"golang.org/x/image/draw"
	"golang.org/x/image/font"
	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"
)

// Cell is a picture on a contact sheet, with what is written below it. Without an image it is blank.
type Cell struct {
	Image image.Image
	Label string
}

const (
	cellGap   = 8  // pixels between pictures
	labelRows = 18 // pixels for what is written below one
)

var (
	sheetPaper = color.NRGBA{18, 24, 32, 255}
	sheetBlank = color.NRGBA{38, 46, 56, 255}
	sheetInk   = color.NRGBA{206, 212, 218, 255}
)

// Sheet lays pictures out in rows of so many, each scaled into a cell of cellWidth pixels with the shape width x height.
func Sheet(cells []Cell, columns, cellWidth, width, height int) *image.NRGBA {
	columns = max(1, min(columns, len(cells)))
	cellHeight := max(1, cellWidth*height/max(1, width))
	rows := (len(cells) + columns - 1) / columns
	out := image.NewNRGBA(image.Rect(0, 0, cellGap+columns*(cellWidth+cellGap), cellGap+rows*(cellHeight+labelRows+cellGap)))
	draw.Draw(out, out.Bounds(), image.NewUniform(sheetPaper), image.Point{}, draw.Src)
	for i, c := range cells {
		x, y := cellGap+i%columns*(cellWidth+cellGap), cellGap+i/columns*(cellHeight+labelRows+cellGap)
		at := image.Rect(x, y, x+cellWidth, y+cellHeight)
		if c.Image == nil {
			draw.Draw(out, at, image.NewUniform(sheetBlank), image.Point{}, draw.Src)
		} else {
			draw.ApproxBiLinear.Scale(out, at, c.Image, c.Image.Bounds(), draw.Src, nil)
		}
		pen := font.Drawer{Dst: out, Src: image.NewUniform(sheetInk), Face: basicfont.Face7x13, Dot: fixed.P(x, y+cellHeight+labelRows-5)}
		pen.DrawString(c.Label)
	}
	return out
}
