package frames_test

import (
	"fmt"

	"rotanex.example/core/frames"
)

func ExampleParse() {
	set, _ := frames.Parse("1-96x2,120")
	fmt.Println(set.Len(), set, set.Sample(3))
	done, _ := frames.Parse("1-48")
	fmt.Println("left:", set.Minus(done))
	_, err := frames.Parse("9-1")
	fmt.Println(err)
	// Output:
	// 49 1-95x2,120 17-81x32
	// left: 49-95x2,120
	// frames "9-1": 9 comes after 1; write for example 1-96, 1-96x2 or 1-10,20,30-40
}
