package check

import (
	"encoding/xml"
	"io"
	"strings"

	"gavrix.org/gavrix/core/safe"
)

type junitSuites struct {
	XMLName  xml.Name     `xml:"testsuites"`
	Name     string       `xml:"name,attr"`
	Tests    int          `xml:"tests,attr"`
	Failures int          `xml:"failures,attr"`
	Suites   []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Name    string        `xml:"name,attr"`
	Class   string        `xml:"classname,attr"`
	Seconds float64       `xml:"time,attr"`
	Failure *junitFailure `xml:"failure"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// WriteJUnit writes results as JUnit XML: a suite for each link, in which the class of a
// check says whether it ran on the simulation or on a real port.
func WriteJUnit(out io.Writer, name string, results []Result) error {
	all := junitSuites{Name: safe.Text(name)}
	for _, r := range results {
		if n := len(all.Suites); n == 0 || all.Suites[n-1].Name != safe.Text(r.Link) {
			all.Suites = append(all.Suites, junitSuite{Name: safe.Text(r.Link)})
		}
		s := &all.Suites[len(all.Suites)-1]
		c := junitCase{Name: safe.Text(r.Check), Class: "REAL", Seconds: r.Took.Seconds()}
		if r.Simulated {
			c.Class = "SIMULATED"
		}
		if !r.Pass {
			var lines []string
			for _, d := range r.Differences {
				lines = append(lines, safe.Text(d.String()))
			}
			c.Failure = &junitFailure{safe.Text(r.Summary()), strings.Join(lines, "\n")}
			s.Failures++
			all.Failures++
		}
		s.Tests++
		all.Tests++
		s.Cases = append(s.Cases, c)
	}
	if _, err := io.WriteString(out, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(out)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(out, "\n")
	return err
}
