// Command makedump writes an SQL dump in the shape of a content-managed system, for
// the benchmarks: as the dump program of MariaDB writes it, or in SQL for the other
// systems. The same seed gives the same dump.
// Usage: makedump [-mb 1000] [-seed 1] [-for mysql|postgres|sqlite] [-few|-dense] [-one-in N] > dump.sql
package main

import (
	"bufio"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
)

var words = strings.Fields(`the lamp of the tower stood over the causeway and a keeper wrote tide wind and weather into the book
while terns nested on the outer ledge granite came by sea in numbered blocks oak steps were pinned with bronze volunteers paint
the gallery rail polish prisms wind the clockwork brew tea mend ropes copy logbooks count birds and open the door for visitors`)

const site = "http://ternrock.example"

var quote = "`"

// oneIn is how many pages and fields there are for each that holds references, and identifier where permanent
// identifiers begin.
var oneIn, identifier = 5, site

type maker struct {
	r   *rand.Rand
	out *bufio.Writer
	n   int64
}

func (m *maker) text(n int) string {
	var b strings.Builder
	for range n {
		b.WriteString(words[m.r.IntN(len(words))])
		b.WriteByte(' ')
	}
	return b.String()
}

// page returns the body of a page; one in some holds references.
func (m *maker) page(i int) string {
	var b strings.Builder
	for range 4 + m.r.IntN(8) {
		fmt.Fprintf(&b, "<!-- block -->\n<p class=\"has-text\">%s it's so.</p>\n", m.text(30+m.r.IntN(50)))
	}
	if i%oneIn == 0 {
		fmt.Fprintf(&b, `<img src="%s/media/%d.jpg" srcset="%s/media/%d-300.jpg 300w" alt=""> <a href="%s/?p=%d">more</a>`, site, i, site, i, site, i)
	} else {
		fmt.Fprintf(&b, `<img src="https://ternrock.example/media/%d.jpg" alt=""> <a href="https://other.example/%d">more</a>`, i, i)
	}
	return b.String()
}

// field returns a serialized value; one in some holds references.
func (m *maker) field(i int) string {
	url := fmt.Sprintf("https://ternrock.example/media/%d.jpg", i)
	if i%oneIn == 0 {
		url = fmt.Sprintf("%s/media/%d.jpg", site, i)
	}
	text := m.text(10 + m.r.IntN(30))
	return fmt.Sprintf(`a:4:{s:5:"width";i:%d;s:4:"file";s:%d:"%s";s:4:"text";s:%d:"%s";s:4:"list";a:2:{i:0;s:%d:"%s";i:1;b:1;}}`,
		m.r.IntN(4000), len(url), url, len(text), text, len(url), url)
}

// small returns a small value with a reference: serialized in three of four.
func (m *maker) small(i int) string {
	url := fmt.Sprintf("%s/media/%d.jpg", site, i)
	if i%4 == 3 {
		return fmt.Sprintf(`<a href="%s">%s</a> %s`, url, m.text(3), m.text(120))
	}
	text := m.text(110)
	return fmt.Sprintf(`a:3:{s:5:"width";i:%d;s:4:"file";s:%d:"%s";s:4:"text";s:%d:"%s";}`, m.r.IntN(4000), len(url), url, len(text), text)
}

// escape makes a text fit for quotes: as MariaDB's program does, or as the standard
// has it.
var escape = strings.NewReplacer(`\`, `\\`, `'`, `\'`, `"`, `\"`, "\n", `\n`)

// insert writes rows of one table in statements of about a megabyte.
func (m *maker) insert(table string, rows int, row func(i int) string) {
	size := 0
	for i := range rows {
		s := row(i)
		if size == 0 {
			size, _ = fmt.Fprintf(m.out, "INSERT INTO %[2]s%[1]s%[2]s VALUES\n", table, quote) // the flush at the end tells
		} else {
			m.out.WriteString(",\n")
		}
		m.out.WriteString(s)
		size += len(s) + 2
		m.n += int64(len(s)) + 2
		if size > 1<<20 {
			m.out.WriteString(";\n")
			size = 0
		}
	}
	if size > 0 {
		m.out.WriteString(";\n")
	}
}

func main() {
	mb := flag.Int("mb", 1000, "about how many megabytes")
	system := flag.String("for", "mysql", "the system: mysql, postgres or sqlite")
	dense := flag.Bool("dense", false, "small rows, about 800 references in a megabyte, most of them in serialized values")
	few := flag.Bool("few", false, "about 25 references in a megabyte: one page and one field in a hundred")
	flag.IntVar(&oneIn, "one-in", oneIn, "how many pages and fields there are for each that holds references")
	seed := flag.Uint64("seed", 1, "where the random numbers begin")
	flag.Parse()
	if *few {
		oneIn, identifier = 100, "https://ternrock.example"
	}
	m := &maker{r: rand.New(rand.NewPCG(*seed, 1871)), out: bufio.NewWriterSize(os.Stdout, 1<<20)}
	switch *system {
	case "mysql":
		m.out.WriteString("-- MariaDB dump 10.19  Distrib 10.11.19-MariaDB\n--\n/*!40101 SET NAMES utf8mb4 */;\n")
		m.out.WriteString("CREATE TABLE `m_posts` (\n  `ID` bigint(20) unsigned NOT NULL AUTO_INCREMENT,\n  `post_title` text NOT NULL,\n  `post_content` longtext NOT NULL,\n  `guid` varchar(255) NOT NULL DEFAULT '',\n  PRIMARY KEY (`ID`)\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\n")
		m.out.WriteString("CREATE TABLE `m_postmeta` (\n  `meta_id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,\n  `post_id` bigint(20) unsigned NOT NULL,\n  `meta_key` varchar(255) DEFAULT NULL,\n  `meta_value` longtext DEFAULT NULL,\n  PRIMARY KEY (`meta_id`)\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\n")
		m.out.WriteString("CREATE TABLE `m_options` (\n  `option_id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,\n  `option_name` varchar(191) NOT NULL DEFAULT '',\n  `option_value` longtext NOT NULL,\n  PRIMARY KEY (`option_id`),\n  UNIQUE KEY `option_name` (`option_name`)\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\n")
	case "postgres", "sqlite":
		quote, escape = `"`, strings.NewReplacer(`'`, `''`)
		m.out.WriteString("BEGIN;\nCREATE TABLE m_posts (\"ID\" INTEGER PRIMARY KEY, post_title TEXT, post_content TEXT, guid TEXT);\n" +
			"CREATE TABLE m_postmeta (meta_id INTEGER PRIMARY KEY, post_id INTEGER, meta_key TEXT, meta_value TEXT);\n" +
			"CREATE TABLE m_options (option_id INTEGER PRIMARY KEY, option_name TEXT UNIQUE, option_value TEXT);\n")
	default:
		fmt.Fprintln(os.Stderr, "-for takes mysql, postgres or sqlite")
		os.Exit(2)
	}
	m.insert("m_options", 2, func(i int) string {
		return fmt.Sprintf("(%d,'%s','%s')", i+1, []string{"home", "siteurl"}[i], site)
	})
	target := int64(*mb) << 20
	for part := 0; m.n < target; part++ {
		base := part * 2000
		if *dense {
			m.insert("m_postmeta", 8000, func(i int) string {
				i += 4 * base
				value := m.small(i)
				if i%2 == 1 { // every other row holds none
					value = strings.ReplaceAll(value, site, "https://ternrock.example")
				}
				return fmt.Sprintf("(%d,%d,'_field','%s')", i+1, i/4, escape.Replace(value))
			})
			continue
		}
		m.insert("m_posts", 2000, func(i int) string {
			i += base
			return fmt.Sprintf("(%d,'%s','%s','%s/?p=%d')", i+1, escape.Replace(m.text(5)), escape.Replace(m.page(i)), identifier, i+1)
		})
		m.insert("m_postmeta", 8000, func(i int) string {
			i += 4 * base
			return fmt.Sprintf("(%d,%d,'_field','%s')", i+1, i/4, escape.Replace(m.field(i)))
		})
	}
	if *system != "mysql" {
		m.out.WriteString("COMMIT;\n")
	}
	m.out.WriteString("-- Dump completed\n")
	if err := m.out.Flush(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
