package envelope_test

import (
	"errors"
	"fmt"

	"trimlantern/core/envelope"
)

func ExampleOpenPHP() {
	value := []byte(`a:1:{s:4:"logo";s:33:"http://ternrock.example/badge.svg";}`)
	s, err := envelope.OpenPHP(value)
	if err != nil {
		fmt.Println(err)
		return
	}
	defer s.Done()
	for _, t := range s.Texts {
		if !t.Key {
			fmt.Println(s.Path(t), string(value[t.Start:t.End]))
		}
	}

	_, err = envelope.OpenPHP([]byte(`a:1:{s:4:"logo";s:33:"https://ternrock.example/badge.svg";}`))
	var broken *envelope.NotSound
	fmt.Println(errors.As(err, &broken), broken.Why)
	// Output:
	// [logo] http://ternrock.example/badge.svg
	// true the length 33 does not fit the string
}

func ExampleMend() {
	broken := []byte(`s:33:"https://ternrock.example/badge.svg";`) // a letter went in, and the length stayed
	lengths, err := envelope.Mend(broken, envelope.Cause{Was: "http://", Now: "https://"})
	fmt.Println(len(lengths), err)
	// Output: 1 <nil>
}
