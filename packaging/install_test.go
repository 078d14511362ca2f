package main

import (
	"os"
	"regexp"
	"strings"
	"testing"
)

// What the guide says of installing is so: units are there, and have the limits, folders and recommended
// packages that it names.
func TestInstallChapter(t *testing.T) {
	b, err := os.ReadFile("../docs/guide/1-set-up.md")
	must(t, err)
	_, text, _ := strings.Cut(string(b), "## Install\n")
	text, _, _ = strings.Cut(text, "\n## ")
	unit := func(name string) string {
		b, err := os.ReadFile("files/" + name + ".service")
		must(t, err)
		return string(b)
	}

	for _, m := range regexp.MustCompile(
		`systemctl enable --now (idletally[a-z-]*)|or (idletally-look)`).FindAllStringSubmatch(text, -1) {
		if name := m[1] + m[2]; !strings.Contains(unit(name), "WantedBy=multi-user.target") {
			t.Errorf("%s cannot be enabled", name)
		}
	}

	for says, is := range map[string]bool{
		"4 GiB": strings.Contains(unit("idletally"), "MemoryMax=4G\n"),
		"512 MiB": strings.Contains(unit("idletally-agent"), "MemoryMax=512M\n") &&
			strings.Contains(unit("idletally-look"), "MemoryMax=512M\n"),
		"`/var/lib/idletally`":        strings.Contains(unit("idletally"), "StateDirectory=idletally\n"),
		"`/var/lib/idletally-agent`":  strings.Contains(unit("idletally-agent"), "StateDirectory=idletally-agent\n"),
		"/etc/idletally/service.yaml": strings.Contains(unit("idletally"), "--settings /etc/idletally/service.yaml"),
	} {
		t.Run(says, func(t *testing.T) {
			if !strings.Contains(text, says) || !is {
				t.Errorf("%s: in the guide %t, so %t", says, strings.Contains(text, says), is)
			}
		})
	}

	source, err := os.ReadFile("main.go")
	must(t, err)
	if !strings.Contains(string(source), "Recommends: mariadb-server-core, mariadb-client-core") ||
		!strings.Contains(text, "`mariadb-server-core` and `mariadb-client-core`") {
		t.Error("the packages of the database are others")
	}
}
