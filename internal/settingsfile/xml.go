package settingsfile

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// inXML reads elements by their path, and attributes behind an "@".
func inXML(text string) ([]Value, error) {
	d := xml.NewDecoder(strings.NewReader(text))
	var list []Value
	var path []string
	value := ""
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
			path, value = append(path, t.Name.Local), ""
			for _, a := range t.Attr {
				list = append(list, Value{Key: strings.Join(path, ".") + "@" + a.Name.Local, Text: a.Value, Line: line()})
			}
		case xml.CharData:
			value += string(t)
		case xml.EndElement:
			if len(path) > 0 {
				list = append(list, Value{Key: strings.Join(path, "."), Text: value, Line: line()})
				path, value = path[:len(path)-1], ""
			}
		}
	}
}
