package cli

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// oneOf is an option that takes one of a few words.
type oneOf struct {
	word  *string
	words []string
}

// words adds an option that takes one of the given words; what it holds already is the default. The shell completes them.
func words(c *cobra.Command, flags *pflag.FlagSet, word *string, name, usage string, words ...string) {
	flags.Var(&oneOf{word, words}, name, usage)
	check(c.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp)))
}

// numeral is an option that takes a number between bounds.
type numeral struct {
	n           *int
	least, most int
}

// number adds an option that takes a number from least to most.
func number(flags *pflag.FlagSet, n *int, name string, usual, least, most int, usage string) {
	*n = usual
	flags.Var(&numeral{n, least, most}, name, usage)
}

// Type names the kind of value.
func (f *numeral) Type() string { return "int" }

// String is the number that is set.
func (f *numeral) String() string {
	if f.n == nil {
		return "0"
	}
	return strconv.Itoa(*f.n)
}

// Set takes a number.
func (f *numeral) Set(s string) error {
	n, err := strconv.Atoi(s)
	if err != nil || n < f.least || n > f.most {
		return errors.New(f.wants())
	}
	*f.n = n
	return nil
}

// wants says what the option takes.
func (f *numeral) wants() string { return fmt.Sprintf("write a number from %d to %d", f.least, f.most) }

// timeSpan is an option that takes a length of time, of at most a year.
type timeSpan struct{ d *time.Duration }

// span adds an option that takes a length of time.
func span(flags *pflag.FlagSet, d *time.Duration, name string, usual time.Duration, usage string) {
	*d = usual
	flags.Var(timeSpan{d}, name, usage)
}

// Type names the kind of value.
func (timeSpan) Type() string { return "duration" }

// String is the time that is set.
func (f timeSpan) String() string {
	if f.d == nil || *f.d == 0 {
		return ""
	}
	return f.d.String()
}

// Set takes a length of time.
func (f timeSpan) Set(s string) error {
	d, err := time.ParseDuration(s)
	if err != nil || d < 0 || d > 366*24*time.Hour {
		return errors.New(f.wants())
	}
	*f.d = d
	return nil
}

// wants says what the option takes.
func (timeSpan) wants() string { return "write a time like 90s, 30m or 2h" }

// Type names the kind of value.
func (f *oneOf) Type() string { return "word" }

// String is the word that is set.
func (f *oneOf) String() string {
	if f.word == nil {
		return ""
	}
	return *f.word
}

// Set takes one of the words.
func (f *oneOf) Set(s string) error {
	if !slices.Contains(f.words, s) {
		return errors.New(f.wants())
	}
	*f.word = s
	return nil
}

// wants says what the option takes.
func (f *oneOf) wants() string { return "write " + orList(f.words) }

// someOf is an option that takes some of a few words, given several times or with commas between.
type someOf struct {
	oneOf
	all *[]string
}

// wordLists adds an option that takes some of the given words.
func wordLists(c *cobra.Command, list *[]string, name, usage string, words ...string) {
	c.Flags().Var(&someOf{oneOf{nil, words}, list}, name, usage)
	check(c.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp)))
}

// String is the words that are set.
func (f *someOf) String() string {
	if f.all == nil {
		return ""
	}
	return strings.Join(*f.all, ",")
}

// Set takes one word, or several with commas between.
func (f *someOf) Set(s string) error {
	for _, one := range strings.Split(s, ",") {
		if !slices.Contains(f.words, one) {
			return errors.New(f.wants())
		}
		*f.all = append(*f.all, one)
	}
	return nil
}

// orList writes a choice of words.
func orList(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return fmt.Sprintf("%s or %s", strings.Join(words[:len(words)-1], ", "), words[len(words)-1])
}

// days is a duration that may be given in days, like 21d.
type days struct{ d *time.Duration }

func (f days) Type() string { return "time" }

func (f days) String() string {
	if f.d == nil || *f.d == 0 {
		return ""
	}
	if *f.d%(24*time.Hour) == 0 && *f.d > 0 {
		return fmt.Sprintf("%dd", *f.d/(24*time.Hour))
	}
	return f.d.String()
}

// Set reads a duration.
func (f days) Set(s string) error {
	if n, ok := strings.CutSuffix(s, "d"); ok {
		whole, err := strconv.Atoi(n)
		if err != nil || whole < 0 {
			return fmt.Errorf("write it like 21d or 36h")
		}
		*f.d = time.Duration(whole) * 24 * time.Hour
		return nil
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < 0 {
		return fmt.Errorf("write it like 21d or 36h")
	}
	*f.d = d
	return nil
}
