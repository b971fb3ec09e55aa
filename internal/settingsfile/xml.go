package settingsfile

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// identifies is the attributes that tell elements of one name apart.
var identifies = []string{"key", "name", "id"}

// inXML reads elements by their path, and attributes behind an "@". An element
// that names itself by an attribute (<option name="port">) can be found by that
// name too: "gauge.option[port]", or written with a dot.
func inXML(text string) ([]Value, error) {
	d := xml.NewDecoder(strings.NewReader(text))
	var list []Value
	var path, named []string // by elements, and by what they call themselves
	value := ""
	add := func(end, text string, line int) {
		plain, own := strings.Join(path, "."), strings.Join(named, ".")
		if own != plain { // the plain path last: it is what the last of several is found by
			list = append(list, Value{Key: own + end, Text: text, Line: line})
		}
		list = append(list, Value{Key: plain + end, Text: text, Line: line})
	}
	counted, number := 0, 1
	line := func() int { // lines are counted once, however many elements there are
		at := min(int(d.InputOffset()), len(text))
		number += strings.Count(text[counted:at], "\n")
		counted = at
		return number
	}
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return nil, err
		}
		if len(path) > mostLevels || len(list) > mostFound {
			return nil, fmt.Errorf("more than %d elements, or beyond %d levels", mostFound, mostLevels)
		}
		switch t := token.(type) {
		case xml.StartElement:
			path, named, value = append(path, t.Name.Local), append(named, ownName(t)), ""
			for at, i := line(), 0; i < len(t.Attr); i++ {
				add("@"+t.Attr[i].Name.Local, t.Attr[i].Value, at)
			}
		case xml.CharData:
			value += string(t)
		case xml.EndElement:
			if len(path) > 0 {
				add("", value, line())
				path, named, value = path[:len(path)-1], named[:len(named)-1], ""
			}
		}
	}
}

// ownName is an element with what it calls itself behind it.
func ownName(e xml.StartElement) string {
	for _, want := range identifies {
		for _, a := range e.Attr {
			if strings.EqualFold(a.Name.Local, want) && a.Value != "" {
				return e.Name.Local + "." + a.Value
			}
		}
	}
	return e.Name.Local
}
