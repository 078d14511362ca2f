// Shots takes the pictures of the console in docs/screenshots from a running demo.
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"idletally/demo"
	"idletally/e2e/browser"
)

func main() {
	if len(os.Args) < 4 {
		fmt.Fprintln(os.Stderr, "want ADDRESS FOLDER PERSON [NAME=PATH;PRESS;PRESS...] [dark] [narrow|tall]")
		os.Exit(2)
	}
	if err := run(os.Args[1], os.Args[2], os.Args[3], os.Args[4:]); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(address, folder, person string, pages []string) error {
	width := 1280
	height := 800
	dark := false
	var wanted [][2]string

	for _, p := range pages {
		switch name, path, ok := cut(p); {
		case ok:
			wanted = append(wanted, [2]string{name, path})
		case p == "dark":
			dark = true
		case p == "tall":
			height = 1500
		case p == "narrow":
			width, height = 390, 844
		}
	}

	b, err := browser.New(context.Background(), address, width, height, dark)
	if err != nil {
		return err
	}
	defer b.Close()
	defer func() {
		for _, f := range b.Faults() {
			fmt.Println("fault:", f)
		}
	}()

	if person != "-" {
		if err := b.SignIn(person, demo.Password); err != nil {
			return err
		}
	}

	for _, p := range wanted {
		path, presses, _ := strings.Cut(p[1], ";")
		if err := b.Go(path); err != nil {
			return err
		}

		for press := range strings.SplitSeq(presses, ";") {
			if press == "" {
				continue
			}
			if err := b.Press(press); err != nil {
				return err
			}
		}

		if err := b.Shot(filepath.Join(folder, p[0]+".png")); err != nil {
			return err
		}
	}

	return nil
}

func cut(s string) (string, string, bool) {
	for i := range s {
		if s[i] == '=' {
			return s[:i], s[i+1:], true
		}
	}
	return s, "", false
}
