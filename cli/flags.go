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
