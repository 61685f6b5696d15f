// Package ledger checks a ledger: a file of numbered, chained lines that a machine keeps appending to, so that anyone can
// tell from an image of it whether the image is consistent and how old it is. docs/ledger.md describes the format.
package ledger

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// FileName is the name under which a ledger is looked for, in the top folder of a file system.
const FileName = "keenlodge.ledger"

// Summary is what a clean ledger says.
type Summary struct {
	Lines int64
	// Last is when the newest line was written, by the machine's clock, in UTC.
	Last time.Time
}

// longestLine bounds what is read of a line, in bytes: a ledger is what a guest wrote, or somebody in its place.
const longestLine = 4 << 10

// Check reads a ledger to its end. An empty one is clean. The error names the first line that is wrong.
func Check(r io.Reader) (Summary, error) {
	s, _, err := CheckUntil(r, time.Time{})
	return s, err
}

// CheckUntil does the same, and tells when the newest line was written that is not younger than a moment, by the machine's clock; the zero time for none.
func CheckUntil(r io.Reader, until time.Time) (s Summary, last time.Time, err error) {
	in := bufio.NewReaderSize(r, longestLine)
	previous := "-"
	for {
		slice, err := in.ReadSlice('\n')
		line := string(slice)
		if err == io.EOF && line == "" {
			return s, last, nil
		}
		if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
			return s, last, fmt.Errorf("ledger line %d: %w", s.Lines+1, err)
		}
		if err != nil {
			return s, last, fmt.Errorf("ledger line %d: it is torn: no end of line after %d bytes", s.Lines+1, len(line))
		}
		at, sum, err := checkLine(strings.TrimSuffix(line, "\n"), s.Lines+1, previous)
		if err != nil {
			return s, last, fmt.Errorf("ledger line %d: %w", s.Lines+1, err)
		}
		if !at.After(until) {
			last = at
		}
		s.Lines, s.Last, previous = s.Lines+1, at, sum
	}
}

func checkLine(line string, number int64, previous string) (time.Time, string, error) {
	fields := strings.Split(line, " ")
	if len(fields) != 3 {
		return time.Time{}, "", fmt.Errorf("it has %d fields, not 3", len(fields))
	}
	if fields[0] != strconv.FormatInt(number, 10) {
		return time.Time{}, "", fmt.Errorf("its number is %.20q", fields[0])
	}
	seconds, err := strconv.ParseInt(fields[1], 10, 64)
	if err != nil {
		return time.Time{}, "", fmt.Errorf("its time is %.20q", fields[1])
	}
	sum := sha256.Sum256([]byte(previous + " " + fields[0] + " " + fields[1]))
	if hex.EncodeToString(sum[:]) != fields[2] {
		return time.Time{}, "", errors.New("its checksum does not match")
	}
	return time.Unix(seconds, 0).UTC(), fields[2], nil
}

// String is the summary in words.
func (s Summary) String() string {
	if s.Lines == 0 {
		return "ledger clean, no line in it yet"
	}
	return fmt.Sprintf("ledger clean, %d lines, the last of %s", s.Lines, s.Last.Format(time.RFC3339))
}
