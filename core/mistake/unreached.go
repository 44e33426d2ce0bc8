package mistake

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"syscall"
)

// Unreached says in words why a connection to an address could not be made, of an error of package
// net; other errors are given back as they are. The error stays what it is for errors.Is.
func Unreached(address string, err error) error {
	var names *net.DNSError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &names) && names.IsNotFound:
		return &unreached{fmt.Sprintf("the name %s is not known", names.Name), err}
	case errors.Is(err, syscall.ECONNREFUSED):
		return &unreached{"the connection to " + address + " was refused: nothing listens there", err}
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return &unreached{"no way leads to " + address, err}
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return &unreached{address + " ended the connection", err}
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded), errors.Is(err, syscall.ETIMEDOUT):
		return &unreached{address + " did not answer in time", err}
	}
	return err
}

// InWords is an error that says words, and is err for errors.Is.
func InWords(words string, err error) error { return &unreached{words, err} }

type unreached struct {
	words string
	err   error
}

func (u *unreached) Error() string { return u.words }
func (u *unreached) Unwrap() error { return u.err }
