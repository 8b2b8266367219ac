package draft

import (
	"fmt"
	"slices"

	"inkret/core/document"
)

// Answer is what a person decided about a question.
type Answer struct {
	Question string   `json:"question"` // its ID
	Answer   string   `json:"answer"`
	Fields   []string `json:"fields,omitempty"` // that it was given for, where only for these
}

// Answers are what was decided so far. A later one counts in place of an earlier one.
type Answers []Answer

func (a Answers) find(id string) (Answer, bool) {
	for _, one := range slices.Backward(a) {
		if one.Question == id {
			return one, true
		}
	}
	return Answer{}, false
}

// To returns the answer to a question that says as much as the question concerns.
func To(q Question, answer string) Answer {
	a := Answer{Question: q.ID, Answer: answer}
	if len(q.Concerns) > 0 && q.about() {
		for _, f := range q.Concerns {
			a.Fields = append(a.Fields, f.String())
		}
	}
	return a
}

// With adds an answer, in place of an earlier one to the same question, with the fields that one was given for.
func (a Answers) With(one Answer) Answers {
	if i := slices.IndexFunc(a, func(b Answer) bool { return b.Question == one.Question }); i >= 0 {
		if a[i].Answer == one.Answer && len(a[i].Fields) > 0 {
			one.Fields = append(slices.Clone(a[i].Fields), one.Fields...)
		}
		a = slices.Delete(slices.Clone(a), i, i+1)
	}
	return append(slices.Clone(a), one)
}

// IsAnswer reports whether a text is an answer to any question.
func IsAnswer(text string) bool { return slices.Contains(slices.Concat(aboutFields, yesOrNo), text) }

// answersVersion is the version of the format of answers.
const answersVersion = 1

// Text writes answers as a file, which [ReadAnswers] reads.
func (a Answers) Text() []byte {
	root := document.Mapping()
	root.Set("inkret-answers", document.Count(answersVersion))
	list := &document.Value{Kind: document.List, Block: true}
	for _, one := range a {
		v := document.Mapping().Set("question", document.Text(one.Question)).Set("answer", document.Text(one.Answer))
		if len(one.Fields) > 0 {
			v.Set("fields", document.Texts(one.Fields...))
		}
		list.Add(v)
	}
	return append([]byte("# Answers to the questions of a draft. Another draft of the same API goes by them.\n"),
		root.Set("answers", list).Append(nil, 0)...)
}

// ReadAnswers reads what [Answers.Text] wrote. Errors have line and column.
func ReadAnswers(name string, data []byte) (Answers, error) {
	var fault error
	root := document.Parse(name, data, func(at *document.Node, expected, found string) {
		if fault == nil {
			fault = fmt.Errorf("%s: %s; expected %s", at.Pos(), found, expected)
		}
	})
	switch {
	case fault != nil:
		return nil, fault
	case root == nil || root.Kind != document.Map || root.Get("inkret-answers") == nil:
		return nil, fmt.Errorf("%s: not a file of answers: it has no inkret-answers", name)
	case root.Get("inkret-answers").Text != fmt.Sprint(answersVersion):
		return nil, fmt.Errorf("%s: answers of version %s are not read here; expected %d",
			root.Get("inkret-answers").Pos(), root.Get("inkret-answers").Text, answersVersion)
	}
	var all Answers
	list := root.Get("answers")
	if list == nil {
		return nil, nil
	}
	for _, n := range list.Items {
		var a Answer
		if v := n.Get("question"); v != nil {
			a.Question = v.Text
		}
		if v := n.Get("answer"); v != nil {
			a.Answer = v.Text
		}
		if v := n.Get("fields"); v != nil {
			for _, f := range v.Items {
				a.Fields = append(a.Fields, f.Text)
			}
		}
		if a.Question == "" || !IsAnswer(a.Answer) {
			return nil, fmt.Errorf("%s: expected a question and one of the answers %s", n.Pos(),
				some(slices.Concat(aboutFields, yesOrNo)))
		}
		all = append(all, a)
	}
	return all, nil
}
