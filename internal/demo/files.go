package demo

import (
	"embed"
	"os"
	"path/filepath"
)

//go:embed files/*
var files embed.FS

// WriteFiles puts the world's sheets and saved tables into a folder, and
// returns their names.
func WriteFiles(dir string) ([]string, error) {
	list, err := files.ReadDir("files")
	if err != nil {
		return nil, err
	}
	var names []string
	for _, f := range list {
		text, err := files.ReadFile("files/" + f.Name())
		if err != nil {
			return nil, err
		}
		if err := os.WriteFile(filepath.Join(dir, f.Name()), text, 0o644); err != nil {
			return nil, err
		}
		names = append(names, f.Name())
	}
	return names, nil
}
