package picture_test

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"

	"rotanex.example/core/picture"
)

// A frame is taken in only if its file is a whole picture of the size that was asked for.
func ExampleCheck() {
	img := image.NewNRGBA(image.Rect(0, 0, 64, 36))
	img.Set(3, 3, color.NRGBA{200, 120, 40, 255})
	var file bytes.Buffer
	_ = png.Encode(&file, img)
	whole := file.Bytes()
	info, err := picture.Check(bytes.NewReader(whole), int64(len(whole)), 64, 36)
	fmt.Println(info.Format, err)
	_, err = picture.Check(bytes.NewReader(whole[:len(whole)/2]), int64(len(whole[:len(whole)/2])), 64, 36)
	fmt.Println(err != nil)
	// Output:
	// png <nil>
	// true
}
