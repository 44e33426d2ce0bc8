// Package secretfile reads the file that says with which secrets users log in to targets.
//
//   - user: heron
//     secret: twelve or more letters
//     target: iqn.2026-01.example:store    # all targets, where it is left out
//     targetUser: store                    # where the target has to prove who it is
//     targetSecret: another secret
//
// The file must be readable by its owner alone.
package secretfile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/goccy/go-yaml/ast"

	"patientheron/format/strictyaml"
)

// Secret is what a user of a target proves itself by, and the target itself.
type Secret struct {
	User         string
	Secret       string
	Target       string // "" for all targets
	TargetUser   string // "" where the target need not prove who it is
	TargetSecret string
}

// largest is how many bytes such a file has at most.
const largest = 1 << 20

// Read reads a file; none is there is as if it were empty.
func Read(path string) ([]Secret, error) {
	file, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("open the file of secrets: %w", err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, fmt.Errorf("look at the file of secrets: %w", err)
	}
	switch {
	case !info.Mode().IsRegular() || info.Size() > largest:
		return nil, fmt.Errorf("%s is not a file of secrets", path)
	case info.Mode().Perm()&0o077 != 0:
		return nil, fmt.Errorf("%s can be read by others than its owner; take that right away (chmod 600 %s)", path, path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("read the file of secrets: %w", err)
	}
	secrets, err := Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return secrets, nil
}

// Parse reads the text of such a file. Errors name places, and no secrets.
func Parse(text []byte) (secrets []Secret, err error) {
	document, err := strictyaml.Parse(text, "a file of secrets")
	if err != nil {
		return nil, err
	}
	err = strictyaml.Sequence(document, "a file of secrets", func(n ast.Node) error {
		var s Secret
		if err := strictyaml.Mapping(n, "a secret", map[string]func(ast.Node) error{
			"user": strictyaml.Text(&s.User), "secret": strictyaml.Text(&s.Secret), "target": strictyaml.Text(&s.Target),
			"targetUser": strictyaml.Text(&s.TargetUser), "targetSecret": strictyaml.Text(&s.TargetSecret),
		}); err != nil {
			return err
		}
		switch {
		case s.User == "" || s.Secret == "":
			return strictyaml.Fail(n, nil, "a user and a secret belong together, and one is missing")
		case (s.TargetUser == "") != (s.TargetSecret == ""):
			return strictyaml.Fail(n, nil, "targetUser and targetSecret belong together, and one is missing")
		case s.TargetSecret == s.Secret:
			return strictyaml.Fail(n, nil, "the target must not have the user's own secret: whoever knows one knows the other (RFC 7143, 9.2.1)")
		}
		secrets = append(secrets, s)
		return nil
	})
	return secrets, err
}
