package store

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"
)

func TestTheTrailShowsTampering(t *testing.T) {
	for name, tamper := range map[string]string{
		"nothing":              "",
		"a detail":             `UPDATE trail SET detail = 'nothing to see' WHERE id = 3`,
		"an author":            `UPDATE trail SET author = 'Somebody' WHERE id = 1`,
		"an entry taken out":   `DELETE FROM trail WHERE id = 2`,
		"the first taken out":  `DELETE FROM trail WHERE id = 1`,
		"an entry put between": `INSERT INTO trail (id, at, author, action, subject, detail, hash) SELECT 6, at, author, action, subject, detail, hash FROM trail WHERE id = 5`,
		"two swapped":          `UPDATE trail SET id = CASE id WHEN 2 THEN -3 WHEN 3 THEN -2 END WHERE id IN (2, 3)`,
	} {
		t.Run(name, func(t *testing.T) {
			s, err := Open(t.Context(), t.TempDir())
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			for i := range 5 {
				if err := s.AddTrail(t.Context(), TrailEntry{At: time.UnixMilli(int64(i) * 1000), Author: "Noor",
					Action: "reveal", Subject: "capture 1", Detail: fmt.Sprint("/", i)}); err != nil {
					t.Fatal(err)
				}
			}
			if tamper != "" {
				if _, err := s.write.Exec(tamper); err != nil {
					t.Fatal(err)
				}
			}
			n, last, err := s.VerifyTrail(t.Context())
			if whole := tamper == ""; whole != (err == nil) || whole && (n != 5 || len(last) != 64) || !whole &&
				!errors.Is(err, ErrTampered) {
				t.Errorf("verified as %d entries, %v", n, err)
			}
		})
	}
}

func TestTheTrailIsListedInPages(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for i := range 7 {
		s.AddTrail(t.Context(), TrailEntry{At: time.UnixMilli(int64(i)), Author: []string{"Noor", "Teodor"}[i%2],
			Action: "reveal", Subject: "capture 1", Detail: fmt.Sprint(i)})
	}
	all, n, err := s.Trail(t.Context(), TrailFilter{Author: "Noor"}, Page{Number: 2, Size: 3})
	if err != nil || n != 4 || len(all) != 1 || all[0].Detail != "0" {
		t.Errorf("the second page of Noor's is %+v of %d, %v", all, n, err)
	}
	if err := s.AddTrail(t.Context(), TrailEntry{}); err != nil {
		t.Error(err)
	}
	if _, n, _ := s.Trail(t.Context(), TrailFilter{}, Page{Number: 1, Size: 1}); n != 7 {
		t.Errorf("an entry about nothing makes it %d", n)
	}
	if strings.Contains(all[0].Hash, "/") {
		t.Error("a hash is not hexadecimal")
	}
}
