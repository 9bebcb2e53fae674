package rules

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/core/address"
)

// Moved is one row of a list of moved addresses, or what is wrong with it.
type Moved struct {
	Line   int    // of the list, from 1
	Text   string // the rule, in the language; "" if there is none
	Reason string // why there is none, or what deserves a look
}

// Import turns a list of moved addresses into redirects: comma-separated values
// (RFC 4180) with two or three columns, from, to and status, of which from and
// to are paths or whole URLs. A first row that names the columns is passed
// over. own are the hosts of the site itself; an old address of another host
// becomes a condition. The error is that of reading.
func Import(list io.Reader, own []string) ([]Moved, error) {
	reader := csv.NewReader(list)
	// Spreadsheets leave out empty columns at the end of a row.
	reader.FieldsPerRecord, reader.TrimLeadingSpace, reader.LazyQuotes = -1, true, false
	var rows []Moved
	seen := map[string]string{}
	for first := true; ; first = false {
		record, err := reader.Read()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return rows, err
		}

		line, _ := reader.FieldPos(0)
		if first {
			record[0] = strings.TrimPrefix(record[0], "\ufeff")
			if len(record) == 1 && strings.ContainsAny(record[0], ";\t") {
				return nil, fmt.Errorf("line %d has one column: columns are divided by commas (RFC "+
					"4180), not by semicolons or tabs", line)
			}
			// A first row without addresses is the heading.
			if !isAddress(record[0]) && (len(record) < 2 || !isAddress(record[1])) {
				continue
			}
		}

		for i := range record {
			record[i] = strings.TrimSpace(record[i])
		}
		if len(record) == 1 && record[0] == "" {
			continue
		}

		row := Moved{Line: line}
		row.Text, row.Reason = moved(record, own)
		if row.Text != "" {
			from, to, _ := strings.Cut(row.Text, " -> ")
			before, twice := seen[from]
			switch {
			case twice && before == to:
				row = Moved{Line: line, Reason: "the same as a row above"}
			case twice:
				row = Moved{Line: line, Reason: "a row above sends the same address to " + before}
			}

			if !twice {
				seen[from] = to
			}
		}
		rows = append(rows, row)
	}
}

// isAddress tells a row of addresses from the heading of a table.
func isAddress(text string) bool {
	return strings.HasPrefix(text, "/") || strings.Contains(text, "://")
}

// moved makes the rule of one row.
func moved(record []string, own []string) (rule, why string) {
	if len(record) < 2 || len(record) > 3 {
		return "", fmt.Sprintf("the row has %d columns; a redirect needs two or three: from, to, status",
			len(record))
	}
	from, err := readAddress(record[0])
	if err != nil {
		return "", "from: " + err.Error()
	}

	to, err := readAddress(record[1])
	if err != nil {
		return "", "to: " + err.Error()
	}
	p, _, err := address.Split(from.EscapedPath())
	if err != nil {
		return "", "from: the address " + err.Error()
	}

	var out strings.Builder
	out.WriteString("redirect " + address.Encode(p.Names, false) + " -> ")
	if to.Host != "" && !slices.Contains(own, strings.ToLower(to.Hostname())) {
		out.WriteString(strings.ToLower(to.Scheme + "://" + to.Host))
	}

	target, _, err := address.Split(to.EscapedPath())
	if err != nil {
		return "", "to: the address " + err.Error()
	}
	out.WriteString(target.String())
	if to.RawQuery != "" {
		out.WriteString("?" + address.Clean(to.RawQuery))
	}

	if to.Fragment != "" {
		out.WriteString("#" + address.EncodeFragment(to.Fragment))
	}
	if len(record) == 3 && record[2] != "" && record[2] != "301" {
		if status, err := strconv.Atoi(record[2]); err != nil ||
			!slices.Contains(statuses[Redirect], status) {
			return "", fmt.Sprintf("%q is not the status of a redirect: 301, 302, 303, 307, 308", record[2])
		}
		out.WriteString(" with " + record[2])
	}

	conditions := movedWhen(from, own)
	if len(conditions) > 0 {
		out.WriteString(" when " + strings.Join(conditions, " and "))
	}
	// The rule is read back by the real parser, so that nothing is printed that
	// would be refused.
	program, found := Parse([]Source{{Name: "list", Text: []byte(out.String())}}, Options{})
	if len(found) > 0 {
		return "", found[0].What
	}

	local := &program.Rules[0]
	if local.Target.IsLocal() && local.Target.String() == local.Pattern.String() && len(conditions) == 0 {
		return "", "it redirects to itself"
	}
	return program.Rules[0].String(), ""
}

// movedWhen returns the conditions under which an address has moved: its host,
// if that is none of the site's own, and its parameters.
func movedWhen(from *url.URL, own []string) (conditions []string) {
	if from.Host != "" && !slices.Contains(own, strings.ToLower(from.Hostname())) {
		host := Condition{Kind: ByHost, Values: []string{strings.ToLower(from.Hostname())}}
		conditions = append(conditions, host.String())
	}
	for _, parameter := range address.Parameters(from.RawQuery) {
		if parameter.Name != "" && !address.HasControl(parameter.Name+parameter.Value) {
			query := Condition{Kind: ByQuery, Name: parameter.Name, Values: []string{parameter.Value}}
			conditions = append(conditions, query.String())
		}
	}

	return conditions
}

// readAddress reads a path or a whole URL, whose
// characters may stand for themselves.
func readAddress(text string) (*url.URL, error) {
	if !isAddress(text) {
		return nil, fmt.Errorf("not a path (/old) or an address (https://...): %q", text)
	}
	u, err := url.Parse(strings.ReplaceAll(text, " ", "%20"))
	if err != nil {
		return nil, errors.New("cannot read the address")
	}

	if u.Host != "" && u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("not a web address: %q", text)
	}
	return u, nil
}
