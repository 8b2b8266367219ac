package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"inkret/core/draft"
	"inkret/durable"
	"inkret/report"
)

// answersFile keeps the answers to a draft's questions.
type answersFile struct {
	name string // empty for none
	all  draft.Answers
}

// readAnswers reads a file of answers, which need not be there yet.
func readAnswers(name string) (*answersFile, error) {
	f := &answersFile{name: name}
	if name == "" {
		return f, nil
	}
	data, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return f, nil
	}
	if err != nil {
		return nil, fileError(err)
	}
	f.all, err = draft.ReadAnswers(name, data)
	return f, err
}

// keep adds an answer and writes the file.
func (f *answersFile) keep(a draft.Answer) error {
	f.all = f.all.With(a)
	return f.write()
}

// withdraw removes the answer to a question and writes the file.
func (f *answersFile) withdraw(q draft.Question) error {
	f.all = slices.DeleteFunc(slices.Clone(f.all), func(a draft.Answer) bool { return a.Question == q.ID })
	return f.write()
}

func (f *answersFile) write() error {
	if err := durable.WriteFile(f.name, f.all.Text()); err != nil {
		return fileError(err)
	}
	return nil
}

const askingHelp = `  Enter     take the suggestion, marked *
  1, 2 …    give that answer; its words do too
  s         skip it: it stays open
  b         back to the one before
  all       take the suggestion here and for all that follow
  q         stop; the answers are kept, and the same command goes on
`

// askThrough asks questions one after another, and keeps each answer as it is given. It stops at the end of the input,
// at q, and when it is interrupted.
func (a *app) askThrough(ctx context.Context, questions []draft.Question, f *answersFile) error {
	if len(questions) == 0 {
		return nil
	}
	fmt.Fprintf(a.err, "%s, the most important first. Answers go to %s. Type ? for help.\n",
		plural(len(questions), "question"), report.Clean(f.name))
	all := false
	for i := 0; i < len(questions); {
		q := questions[i]
		said := ""
		if !all {
			a.showQuestion(q, i+1, len(questions))
			line, err := a.line(ctx)
			if errors.Is(err, io.EOF) {
				fmt.Fprintln(a.err)
				return nil
			}
			if err != nil {
				return err
			}
			said = strings.ToLower(strings.TrimSpace(line))
		}
		switch said {
		case "?", "h", "help":
			fmt.Fprint(a.err, askingHelp)
			continue
		case "q":
			return nil
		case "s":
			i++
			continue
		case "b":
			if i = max(0, i-1); i >= 0 {
				if err := f.withdraw(questions[i]); err != nil {
					return err
				}
			}
			continue
		case "all":
			all = true
			continue
		}
		answer, ok := answerTo(q, said)
		if !ok {
			fmt.Fprintf(a.err, "  %s is no answer; type ? for help\n", quoted(said))
			continue
		}
		if answer != "" {
			if err := f.keep(draft.To(q, answer)); err != nil {
				return err
			}
		}
		i++
	}
	return nil
}

// answerTo returns the answer that a line gives: its number, its words, or for an empty line the suggestion. Where the
// suggestion is to leave the question open, the answer is empty.
func answerTo(q draft.Question, line string) (answer string, ok bool) {
	if line == "" {
		if q.Suggestion == draft.LeftOpen {
			return "", true
		}
		return q.Suggestion, true
	}
	if n, err := strconv.Atoi(line); err == nil && n >= 1 && n <= len(q.Answers) {
		return q.Answers[n-1], true
	}
	var fitting []string
	for _, one := range q.Answers {
		if one == line {
			return one, true
		}
		if strings.HasPrefix(one, line) {
			fitting = append(fitting, one)
		}
	}
	if len(fitting) == 1 {
		return fitting[0], true
	}
	return "", false
}

// showQuestion prints a question with its answers.
func (a *app) showQuestion(q draft.Question, n, of int) {
	width := terminal(a.err)
	if width == 0 {
		width = 80
	}
	where := q.Field
	if q.Entity != "" {
		where = q.Entity + "." + q.Field
	}
	fmt.Fprintf(a.err, "\n%d of %d  %s\n", n, of, report.Clean(where))
	for _, line := range wrapped(report.Clean(q.Text), width-2) {
		fmt.Fprintf(a.err, "  %s\n", line)
	}
	if len(q.Concerns) > 1 {
		var names []string
		for _, f := range q.Concerns {
			names = append(names, f.String())
		}
		for _, line := range wrapped(report.Clean(fmt.Sprintf("Decides %d fields: %s", len(names), firstFew(names))),
			width-2) {
			fmt.Fprintf(a.err, "  %s\n", line)
		}
	}
	for i, one := range q.Answers {
		mark := " "
		if one == q.Suggestion {
			mark = "*"
		}
		fmt.Fprintf(a.err, "  %s %d  %s", mark, i+1, one)
		if one == q.Suggestion {
			fmt.Fprintf(a.err, " (%s)", q.Certainty)
		}
		fmt.Fprintln(a.err)
	}
	if q.Suggestion == draft.LeftOpen {
		fmt.Fprintln(a.err, "  *    left open: Enter skips it")
	}
	fmt.Fprint(a.err, "> ")
}

// firstFew lists names, up to a number.
func firstFew(names []string) string {
	const most = 10
	if more := len(names) - most; more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), more)
	}
	return strings.Join(names, ", ")
}

// wrapped breaks a text into lines of at most so many characters, between words.
func wrapped(text string, width int) (lines []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len([]rune(line))+1+len([]rune(word)) > width {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(lines, line)
}
