package kind

import (
	"fmt"
	"strconv"
	"strings"
)

// maxArrays bounds how deep arrays are read that stand in one another.
const maxArrays = 12

// elements notes the values of an array literal (PHP manual, "Arrays"): that at 'key' of $name as $name[key], and so on below it.
func (s *phpSettings) elements(toks []token, name string, perhaps bool, depth int) {
	body, from := arrayBody(toks)
	if from < 0 || depth > maxArrays {
		return
	}
	s.open[name] = from
	next := 0
	for _, item := range split(body) {
		if len(item) == 0 || len(s.entries) >= maxEntries {
			continue
		}
		key := strconv.Itoa(next)
		if arrow := arrowIn(item); arrow > 0 {
			k, why := s.evaluate(item[:arrow])
			if item = item[arrow+2:]; why != "" || len(item) == 0 {
				continue
			}
			key = k
		} else {
			next++
		}
		below := name + "[" + key + "]"
		if _, is := arrayBody(item); is >= 0 {
			s.elements(item, below, perhaps, depth+1)
			continue
		}
		value, why := s.evaluate(item)
		s.entries = append(s.entries, entry{name: below, value: value, why: why, from: item[0].from, to: item[len(item)-1].to, perhaps: perhaps})
	}
}

// arrayBody returns what stands between the brackets of an array literal and where in the file that begins, or -1.
func arrayBody(toks []token) (body []token, from int) {
	if len(toks) > 1 && toks[0].sort == word && strings.EqualFold(string(toks[0].text), "array") && toks[1].is('(') {
		toks = toks[1:]
	}
	if len(toks) < 2 || !toks[0].is('[') && !toks[0].is('(') || toks[0].is('(') && len(toks) > 1 && arrowIn(toks[1:len(toks)-1]) < 0 {
		return nil, -1
	}
	if last := toks[len(toks)-1]; !last.is(']') && !last.is(')') {
		return nil, -1
	}
	return toks[1 : len(toks)-1], toks[0].to
}

// split cuts tokens at the commas that are not inside brackets.
func split(toks []token) (items [][]token) {
	depth, from := 0, 0
	for i, t := range toks {
		switch {
		case t.is('(') || t.is('['):
			depth++
		case t.is(')') || t.is(']'):
			depth--
		case t.is(',') && depth == 0:
			items = append(items, toks[from:i])
			from = i + 1
		}
	}
	return append(items, toks[from:])
}

// arrowIn returns where the => of an item stands that is not inside brackets, or -1.
func arrowIn(toks []token) int {
	depth := 0
	for i, t := range toks {
		switch {
		case t.is('(') || t.is('['):
			depth++
		case t.is(')') || t.is(']'):
			depth--
		case depth == 0 && t.is('=') && i+1 < len(toks) && toks[i+1].is('>'):
			return i
		}
	}
	return -1
}

// classBody notes where the body of a class begins, and returns the index of its brace.
func (s *phpSettings) classBody(toks []token, i int) int {
	for at := i + 2; at < len(toks) && !toks[at].is(';'); at++ {
		if toks[at].is('{') {
			s.depth++
			s.class, s.body = string(toks[i+1].text), s.depth
			s.open[s.class] = toks[at].to
			return at
		}
	}
	return i
}

// addElement sets an element that the file does not set: in the literal of the innermost array around it, or, where there is none, by
// an assignment at the end.
func (s *phpSettings) addElement(name, literal string) {
	root, rest, _ := strings.Cut(name, "[")
	keys := strings.Split(strings.TrimSuffix(rest, "]"), "][")
	for n := len(keys) - 1; n >= 0; n-- {
		parent := root
		if n > 0 {
			parent += "[" + strings.Join(keys[:n], "][") + "]"
		}
		if at, there := s.open[parent]; there {
			text := literal
			for i := len(keys) - 1; i > n; i-- {
				text = fmt.Sprintf("[%s => %s]", phpString(keys[i]), text)
			}
			s.insert(at, fmt.Sprintf("%s => %s, ", phpString(keys[n]), text))
			return
		}
	}
	if root == "" {
		return // the file returns no array
	}
	line := root
	for _, k := range keys {
		line += "[" + phpString(k) + "]"
	}
	at, line := s.end(line + " = " + literal + ";\n")
	s.insert(at, line)
}
