package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/huh/v2"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"trimlantern/outside/disk"
	"trimlantern/outside/sitefile"
	"trimlantern/outside/yamltext"
	"trimlantern/report"
	"trimlantern/work"
	"trimlantern/work/cert"
	"trimlantern/work/guide"
	"trimlantern/work/scan"
	"trimlantern/work/setup"
)

// switching are the flags of the guided run.
type switching struct {
	init     setup.Options
	database string
	until    string
	answers  string
	yes      bool
	plain    bool
	summary  string
	scan     scan.Options
	cert     cert.ObtainOptions
}

func (a *app) switchCommand() *cobra.Command {
	var o switching
	c := &cobra.Command{
		Use:   "switch [FOLDER]",
		Short: "Walk the whole road to HTTPS, one question at a time",
		Long: `Finds the site below FOLDER (default: the current folder), then goes step by step:
certificate, backup, the pages today, preview, change, redirect, every page. At each
step it says what it saw, and asks before it changes anything. At every question ?
explains, s shows all that was found, and q stops. The same command goes on where it
stopped, on another day too.

Of an exported database (--database dump:FILE) it makes a patch or a new dump; once that is
loaded, the same command goes on.

--yes takes the safe answer to every question. --answers takes them from a YAML file:
question: answer, and "item URL: adopt" for one item. Without a terminal, one of them
is needed. --plain asks line by line, for screen readers.

` + exitCodes,
		Example: `  trimlantern switch /var/www/ternrock
  trimlantern switch --site https://ternrock.example --also www.ternrock.example /var/www/ternrock
  trimlantern switch --until preview
  trimlantern switch --yes --answers answers.yaml`,
		Args: atMost(1, "one FOLDER"),
		RunE: func(c *cobra.Command, args []string) error {
			return a.runSwitch(c.Context(), o, strings.Join(args, ""))
		},
	}
	a.address(c)
	a.network(c)
	f := c.Flags()
	f.StringVar(&o.database, "database", "", "the database, as trimlantern init takes it: `sqlite:FILE`, dump:FILE (an exported one), mysql://USER@HOST/NAME …")
	f.StringVar(&o.init.Database.Config, "system-config", "", "take the database from the system's own configuration `FILE`; with --database only what it holds of the addresses")
	f.StringVar(&o.init.Database.Prefix, "prefix", "", "what the names of the site's tables begin with")
	f.StringVar(&o.init.Database.PasswordEnv, "password-env", "", "the password is in this environment `VARIABLE`")
	f.StringVar(&o.init.Database.PasswordFile, "password-file", "", "the password is in this `FILE`")
	f.StringVar(&o.init.System, "system", "", "the kind of system, or a `FILE.yaml` of your own")
	f.StringArrayVar(&o.init.Files, "files", nil, "a `FOLDER` with themes or plugins (repeatable)")
	f.StringVar(&o.until, "until", "", "stop after this `STEP`: "+report.StepNames())
	f.StringVar(&o.answers, "answers", "", "take answers from this YAML `FILE`")
	f.BoolVar(&o.yes, "yes", false, "take the safe answer to every question that has one")
	f.BoolVar(&o.plain, "plain", false, "ask line by line, for screen readers and simple terminals")
	f.StringVar(&o.summary, "summary", "", "write the summary to this HTML `FILE` (default: in the logbook)")
	f.StringVar(&o.cert.Directory, "directory", "", "the `URL` of a certificate authority's directory")
	f.StringArrayVar(&o.cert.Install, "server-file", nil, "the `FILE` that the web server reads the certificate or key from (repeatable)")
	f.StringVar(&o.cert.After, "reload", "", "run this `COMMAND` so that the server reads the certificate")
	lookFlags(c, &o.scan)
	check(c.RegisterFlagCompletionFunc("until", cobra.FixedCompletions(strings.Split(report.StepNames(), ", "), cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// runSwitch walks the road.
func (a *app) runSwitch(ctx context.Context, o switching, folder string) error {
	if o.until != "" && !slices.Contains(guide.Steps, guide.Step(o.until)) {
		return fmt.Errorf("--until %s is no step; write one of %s", o.until, report.StepNames())
	}
	p, err := a.person(o)
	if err != nil {
		return err
	}
	j, err := a.switchJob(ctx, o, folder, p)
	if errors.Is(err, guide.ErrStop) {
		a.code = work.Remain
		return nil
	}
	if err != nil {
		return err
	}
	if o.until == string(guide.Site) {
		return nil
	}
	o.scan.Pages, o.scan.Depth, o.scan.Parallel = 10000, 50, 4
	began := time.Now()
	walked, err := guide.Walk(ctx, j, p, guide.Options{Until: guide.Step(o.until), Live: live(p), Scan: o.scan, Cert: o.cert})
	if ctx.Err() != nil {
		return &work.Fault{Code: work.World, What: "interrupted", Do: "the same command goes on: trimlantern switch; what was done so far: trimlantern status"}
	}
	if err != nil {
		return err
	}
	p.Begin(guide.Summary)
	file := o.summary
	if file == "" {
		file = j.SummaryPath()
	}
	err = writeFile(file, func(w io.Writer) error { return report.Summary(w, walked, time.Since(began)) })
	if err != nil {
		return &work.Fault{Code: work.World, What: "the summary cannot be written", Do: "name another file: --summary FILE; all else is done", Err: err}
	}
	walked.Report = file
	return a.show(walked, func(t *report.Text) { t.Walked(walked.Status, walked) })
}

// live reports whether somebody sits there who answers.
func live(p guide.Person) bool {
	_, ok := p.(*human)
	return ok
}

// switchJob opens the site file, or makes one.
func (a *app) switchJob(ctx context.Context, o switching, folder string, p guide.Person) (*work.Job, error) {
	if a.config == "" && folder != "" {
		a.config = work.SiteFileOf(folder, a.home) // that of the folder, if there is one already
	}
	if there(a.config) || a.config == "" && folder == "" && a.site == "" {
		j, err := a.open()
		if err == nil {
			p.Begin(guide.Site)
			p.Tell(setup.Known(j))
			return j, nil
		}
		if !work.NoSiteFile(err) {
			return nil, err
		}
	}
	if a.site != "" && a.config == "" {
		j, err := work.OpenKnown(a.site, a.home, a.progress())
		if err != nil {
			return nil, err
		}
		if j != nil {
			a.config = j.File.Path
			return a.switchJob(ctx, o, folder, p)
		}
	}
	if folder == "" {
		folder = "."
	}
	p.Begin(guide.Site)
	in := o.init
	in.Folder, in.Site, in.Also, in.Sisters, in.Path, in.Home = folder, a.site, a.also, a.sisters, a.config, a.home
	in.Network = sitefile.Network{Resolve: a.resolve, CA: a.ca}
	if o.database != "" {
		if err := parseDatabase(o.database, &in.Database); err != nil {
			return nil, err
		}
	}
	r, err := setup.Init(ctx, in, a.progress())
	if err != nil {
		return nil, err
	}
	p.Tell(r)
	answer, err := p.Ask(ctx, guide.Question{ID: "site", About: r, Choices: []string{"yes", "no"}, Default: "yes"})
	if err != nil {
		return nil, err
	}
	if answer != "yes" {
		return nil, &work.Fault{Code: work.Misuse, What: "the site file was written, and nothing else", Do: "correct it: trimlantern switch --site https://HOST --also www.HOST FOLDER, or edit " + r.Path}
	}
	a.config = r.Path
	return a.open()
}

// there reports whether a file is there.
func there(path string) bool {
	_, err := os.Lstat(path)
	return path != "" && err == nil
}

// talker is what all persons share: how things are told.
type talker struct {
	app  *app
	t    *report.Text
	last []any // told since the last question
}

func (a *app) talker() talker {
	out := a.out
	if a.format == "json" { // the result has standard output to itself
		out = a.errs
	}
	return talker{app: a, t: a.text(out)}
}

// Begin writes the head of a step.
func (k *talker) Begin(s guide.Step) {
	k.last = nil
	k.t.BeginStep(s)
}

// Tell tells a result in a few lines.
func (k *talker) Tell(result any) {
	k.last = append(k.last, result)
	k.t.Brief(result)
}

// all shows what was told, whole.
func (k *talker) all() {
	for _, r := range k.last {
		k.t.Full(r)
	}
}

// person returns who answers the questions: somebody at the terminal, or a file.
func (a *app) person(o switching) (guide.Person, error) {
	s := &script{talker: a.talker(), yes: o.yes, given: map[string]string{}}
	if o.answers != "" {
		b, err := disk.ReadTrusted(o.answers, 1<<20)
		if err == nil {
			if err = yamltext.Decode(b, &s.given); errors.Is(err, yamltext.ErrEmpty) {
				err = nil // it gives no answer
			}
		}
		if err != nil {
			return nil, &work.Fault{Code: work.Misuse, What: "the answers cannot be read", Do: "write one answer a line, like: backup: \"yes\"", Err: err}
		}
	}
	if o.yes {
		return s, nil
	}
	in, ok := a.in.(*os.File)
	if ok && term.IsTerminal(int(in.Fd())) && isTerminal(a.out) && a.format != "json" {
		return &human{script: s, in: in, board: &keyboard{in: in}, plain: o.plain || os.Getenv("TERM") == "dumb" || os.Getenv("ACCESSIBLE") != ""}, nil
	}
	if o.answers == "" {
		return nil, &work.Fault{Code: work.Misuse, What: "there is no terminal to ask questions on; switch would ask: " + strings.Join(report.Questions(), "; "),
			Do: "run it in a terminal; or add --yes for the safe answers, or --answers FILE"}
	}
	return s, nil
}

// script answers from a file, and with what is safe.
type script struct {
	talker
	yes   bool
	given map[string]string
}

// answer finds the answer to a question in the file: for its very thing, or for all of its kind.
func (s *script) answer(q guide.Question) (string, bool) {
	if q.Key != "" {
		for _, key := range []string{q.ID + " " + q.Key, q.ID + " " + strings.TrimPrefix(q.Key, "insecure-address ")} {
			if v, ok := s.given[key]; ok {
				return v, true
			}
		}
	}
	v, ok := s.given[q.ID]
	return v, ok
}

// Ask takes the answer from the file, or the safe one.
func (s *script) Ask(_ context.Context, q guide.Question) (string, error) {
	asked := report.Ask(q)
	v, ok := s.answer(q)
	switch {
	case ok && len(q.Choices) > 0 && !slices.Contains(q.Choices, v):
		return "", &work.Fault{Code: work.Misuse, What: fmt.Sprintf("%q is no answer to %q", v, asked.Title), Do: "write one of: " + strings.Join(q.Choices, ", ") + " (under " + key(q) + " in the file of answers)"}
	case ok:
	case s.yes:
		v = q.Default
		if len(q.Choices) > 0 && v == "" {
			v = "stop"
		}
	default:
		return "", &work.Fault{Code: work.Misuse, What: fmt.Sprintf("the answers say nothing of %q", asked.Title), Do: "add " + key(q) + " to the file of answers, or --yes for what is safe; choices: " + strings.Join(q.Choices, ", ")}
	}
	if asked.About != "" {
		s.t.Asking(asked)
	}
	s.t.Answered(asked, q, v)
	s.last = nil
	if v == "stop" && !slices.Contains(q.Choices, "stop") {
		return "", guide.ErrStop
	}
	return v, nil
}

// key is how a file of answers names a question.
func key(q guide.Question) string {
	if q.Key == "" {
		return q.ID
	}
	return fmt.Sprintf("%q", q.ID+" "+strings.TrimPrefix(q.Key, "insecure-address "))
}

// human is somebody at a terminal.
type human struct {
	*script
	in    *os.File
	board *keyboard
	plain bool
}

// What can be answered to every question.
const (
	explain = "?"
	showAll = "s"
	quit    = "q"
)

// Ask asks, until there is an answer.
func (h *human) Ask(ctx context.Context, q guide.Question) (string, error) {
	if _, ok := h.answer(q); ok {
		return h.script.Ask(ctx, q)
	}
	asked := report.Ask(q)
	for {
		h.t.Asking(asked)
		var v string
		var err error
		if h.plain {
			v, err = h.line(asked, q)
		} else {
			v, err = h.screen(ctx, asked, q)
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if err != nil {
			return "", err
		}
		switch v {
		case explain:
			h.t.Explained(asked)
			continue
		case showAll:
			if len(h.last) == 0 && q.About != nil {
				h.last = append(h.last, q.About)
			}
			h.all()
			continue
		case quit:
			return "", guide.ErrStop
		}
		h.t.Answered(asked, q, v)
		h.last = nil
		return v, nil
	}
}

// options are the choices of a question, and what can be answered to every one.
func options(asked report.Asked, q guide.Question, every bool) (list []huh.Option[string]) {
	for i, c := range q.Choices {
		list = append(list, huh.NewOption(asked.Choices[i], c))
	}
	if every {
		list = append(list, huh.NewOption("Explain (?)", explain), huh.NewOption("Show all that was found (s)", showAll), huh.NewOption("Stop here (q)", quit))
	}
	return list
}

// field makes the field of a question.
func field(asked report.Asked, q guide.Question, v *string, every bool) huh.Field {
	*v = q.Default
	if len(q.Choices) == 0 {
		return huh.NewInput().Title(asked.Title).Value(v)
	}
	return huh.NewSelect[string]().Title(asked.Title).Options(options(asked, q, every)...).Value(v)
}

// line asks line by line.
func (h *human) line(asked report.Asked, q guide.Question) (string, error) {
	var v string
	in := &watched{r: h.in}
	form := huh.NewForm(huh.NewGroup(field(asked, q, &v, true))).WithAccessible(true).WithInput(in).WithOutput(h.t.W).WithTheme(huh.ThemeFunc(huh.ThemeBase))
	err := form.Run()
	if in.ended { // nobody is there any more
		return quit, nil
	}
	return strings.TrimSpace(v), err
}

// watched tells when its reader ended.
type watched struct {
	r     io.Reader
	ended bool
}

func (w *watched) Read(b []byte) (int, error) {
	n, err := w.r.Read(b)
	w.ended = w.ended || err != nil
	return n, err
}

// screen asks with the keys of a terminal.
func (h *human) screen(ctx context.Context, asked report.Asked, q guide.Question) (string, error) {
	m := &asking{text: len(q.Choices) == 0}
	f := field(asked, q, &m.v, false)
	m.form = huh.NewForm(huh.NewGroup(f)).WithShowHelp(false).WithTheme(theme(h.app.colorOn(h.app.out))).WithWidth(80)
	pressed := h.board.listen()
	defer pressed.Close()
	m.close = func() { _ = pressed.Close() } // it never fails
	program := tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(pressed), tea.WithOutput(h.app.out), tea.WithoutSignalHandler())
	pressed.gone = func() { program.Send(tea.Quit()) }
	if _, err := program.Run(); err != nil && ctx.Err() == nil && !errors.Is(err, tea.ErrInterrupted) {
		return "", err
	}
	if m.key != "" {
		return m.key, nil
	}
	if m.form.State != huh.StateCompleted {
		return quit, nil
	}
	return strings.TrimSpace(m.v), nil
}

// theme is how questions look: plain where there are no colours.
func theme(color bool) huh.Theme {
	if !color {
		return huh.ThemeFunc(huh.ThemeBase)
	}
	return huh.ThemeFunc(huh.ThemeBase16)
}

// asking is one question on the screen.
type asking struct {
	form *huh.Form
	v    string
	key  string // what was pressed in place of an answer
	text bool
	over bool

	close func() // ends the reading of keys
}

// end ends the question.
func (m *asking) end() (tea.Model, tea.Cmd) {
	m.over = true
	m.close()
	return m, tea.Quit
}

// Init begins.
func (m *asking) Init() tea.Cmd { return m.form.Init() }

// Update takes a key.
func (m *asking) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	if press, ok := msg.(tea.KeyPressMsg); ok {
		switch k := press.String(); {
		case k == "ctrl+c" || k == "esc" || k == quit && !m.text:
			m.key = quit
			return m.end()
		case (k == explain || k == showAll) && !m.text, k == explain && m.v == "":
			m.key = k
			return m.end()
		}
	}
	next, cmd := m.form.Update(msg)
	if f, ok := next.(*huh.Form); ok {
		m.form = f
	}
	if m.form.State != huh.StateNormal {
		return m.end()
	}
	return m, cmd
}

// View draws the question, and below it the keys that always work.
func (m *asking) View() tea.View {
	if m.over {
		return tea.NewView("")
	}
	keys := "? explain · s show all · q stop"
	if m.text {
		keys = "enter to answer · ? explain · esc to stop"
	}
	return tea.NewView(m.form.View() + "\n\n  " + keys + "\n")
}
