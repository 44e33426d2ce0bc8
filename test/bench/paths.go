package main

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"io"
	"path"
)

// withoutPaths takes the folders out of a profile, in which each function has the file that it
// is in: the compiler goes by the names of functions, and where a machine keeps its sources is
// nobody's business. A profile is a compressed message of protocol buffers whose sixth field
// are its texts (github.com/google/pprof, proto/profile.proto).
func withoutPaths(profile []byte) ([]byte, error) {
	const texts, bytesType = 6, 2
	compressed, err := gzip.NewReader(bytes.NewReader(profile))
	if err != nil {
		return nil, err
	}
	message, err := io.ReadAll(compressed)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	writer := gzip.NewWriter(&out)
	var header []byte
	for len(message) > 0 {
		tag, n := binary.Uvarint(message)
		value, m := binary.Uvarint(message[max(n, 0):])
		if n <= 0 || m <= 0 {
			return nil, errors.New("not a message of protocol buffers")
		}
		header, message = append(header[:0], message[:n]...), message[n+m:]
		if tag&7 != bytesType { // a number
			header = binary.AppendUvarint(header, value)
			if _, err := writer.Write(header); err != nil {
				return nil, err
			}
			continue
		}
		if value > uint64(len(message)) {
			return nil, io.ErrUnexpectedEOF
		}
		field := message[:value]
		message = message[value:]
		if tag>>3 == texts && len(field) > 0 && field[0] == '/' {
			field = []byte(path.Base(string(field)))
		}
		header = binary.AppendUvarint(header, uint64(len(field)))
		if _, err := writer.Write(append(header, field...)); err != nil {
			return nil, err
		}
	}
	err = writer.Close()
	return out.Bytes(), err
}
