//go:build linux

// Packaging makes what is handed out: static programs for two kinds of processor, Debian packages of them, a
// list of what is in them (SPDX 2.3), and the sums of all. The same source makes the same bytes, wherever and
// whenever.
package main

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra/doc"

	"idletally/internal/cli"
)

func main() {
	out := flag.String("out", "dist", "folder for what is made")
	version := flag.String("version", "", "version; what scripts/version.sh says where it is left out")
	flag.Parse()
	if err := run(*out, *version, []string{"amd64", "arm64"}); err != nil {
		fmt.Fprintln(os.Stderr, "packaging:", err)
		os.Exit(1)
	}
}

func run(out, version string, arches []string) error {
	if version == "" {
		b, err := exec.Command("scripts/version.sh").Output()
		if err != nil {
			return fmt.Errorf("ask scripts/version.sh for the version: %w: give --version", err)
		}
		version = strings.TrimSpace(string(b))
	}

	at, err := commitTime()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}

	var made []string
	for _, arch := range arches {
		program := filepath.Join(out, "idletally-linux-"+arch)
		if err := build(program, version, arch, at); err != nil {
			return err
		}
		bom := program + ".spdx.json"
		if err := contents(program, bom, version, at); err != nil {
			return err
		}
		deb, err := debian(out, program, bom, version, arch, at)
		if err != nil {
			return err
		}

		made = append(made, program, bom, deb)
	}

	return sums(filepath.Join(out, "SHA256SUMS"), made)
}

// commitTime is the time that everything bears: the last commit's, or what SOURCE_DATE_EPOCH says.
func commitTime() (time.Time, error) {
	text := os.Getenv("SOURCE_DATE_EPOCH")
	if text == "" {
		b, err := exec.Command("git", "log", "-1", "--format=%ct").Output()
		if err != nil {
			return time.Time{}, fmt.Errorf("ask git for the time: %w: set SOURCE_DATE_EPOCH", err)
		}
		text = strings.TrimSpace(string(b))
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return time.Time{}, fmt.Errorf("SOURCE_DATE_EPOCH: %w", err)
	}
	return time.Unix(n, 0).UTC(), nil
}

// commit is that which everything is built of; "" where git does not know.
func commit() string {
	b, err := exec.Command("git", "log", "-1", "--format=%H").Output()
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

func build(program, version, arch string, at time.Time) error {
	cmd := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags",
		"-s -w -buildid= -X idletally/internal/cli.Version="+version+" -X idletally/internal/cli.Commit="+
			commit()+" -X idletally/internal/cli.Date="+at.Format(time.RFC3339),
		"-o", program, "idletally/cmd/idletally")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS=linux", "GOARCH="+arch, "GOFLAGS=", "GOAMD64=v1")
	if b, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("build for %s: %w: %s", arch, err, b)
	}
	return nil
}

// debianVersion makes a version of Debian's form: it begins with a digit.
func debianVersion(v string) string {
	v = strings.TrimPrefix(v, "v")
	v = regexp.MustCompile(`[^A-Za-z0-9.+~]`).ReplaceAllString(v, ".")
	if !regexp.MustCompile(`^[0-9]+\.[0-9]`).MatchString(v) { // a commit's name
		v = "0~" + v
	}
	return v
}

const (
	units      = "usr/lib/systemd/system"
	monitoring = "usr/share/doc/idletally/monitoring"
)

// debian makes a package. It runs nothing when it is installed or removed: its units have users of their own
// while they run.
func debian(out, program, bom, version, arch string, at time.Time) (string, error) {
	root, err := os.MkdirTemp("", "idletally-package-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(root)

	put := func(to string, b []byte, mode fs.FileMode) error {
		to = filepath.Join(root, to)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(to, b, mode); err != nil {
			return err
		}

		return os.Chmod(to, mode)
	}

	copied := map[string]string{
		program: "usr/bin/idletally", bom: "usr/share/doc/idletally/contents.spdx.json",
		"packaging/files/idletally.service":        units + "/idletally.service",
		"packaging/files/idletally-agent.service":  units + "/idletally-agent.service",
		"packaging/files/idletally-agents.service": units + "/idletally-agents.service",
		"packaging/files/idletally-look.service":   units + "/idletally-look.service",
		"packaging/files/watch.conf":               "usr/share/doc/idletally/watch.conf",
		"packaging/monitoring/prometheus.yaml":     monitoring + "/prometheus.yaml",
		"packaging/monitoring/alerts.yaml":         monitoring + "/alerts.yaml",
		"packaging/monitoring/dashboard.json":      monitoring + "/dashboard.json",
		"packaging/files/service.yaml":             "etc/idletally/service.yaml",
		"packaging/files/sysusers.conf":            "usr/lib/sysusers.d/idletally.conf",
	}

	for from, to := range copied {
		b, err := os.ReadFile(from)
		if err != nil {
			return "", err
		}

		mode := fs.FileMode(0o644)
		if from == program {
			mode = 0o755
		}

		if err := put(to, b, mode); err != nil {
			return "", err
		}
	}

	if err := manuals(put, at); err != nil {
		return "", err
	}
	if err := completions(put); err != nil {
		return "", err
	}

	size := int64(0)
	err = filepath.WalkDir(root, func(_ string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}

		st, err := e.Info()
		if err == nil {
			size += st.Size()
		}

		return err
	})

	if err != nil {
		return "", err
	}

	control := fmt.Sprintf(`Package: idletally
Version: %s
Architecture: %s
Maintainer: Idle Tally <tally@saltmarsh.example>
Installed-Size: %d
Section: admin
Priority: optional
Recommends: mariadb-server-core, mariadb-client-core
Description: keeps permissions as they were meant to be
 Declares owners, modes and access entries of applications' paths, looks at hosts
 and file shares, reports where they have drifted, and drafts plans that a second
 person reviews before anything changes. This package holds the service, the agent
 and the command line in one program.
`, debianVersion(version), arch, (size+1023)/1024)

	if err := errors.Join(put("DEBIAN/control", []byte(control), 0o644),
		put("DEBIAN/conffiles", []byte("/etc/idletally/service.yaml\n"), 0o644)); err != nil {
		return "", err
	}

	err = filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() {
			err = os.Chmod(path, 0o755)
		}
		return errors.Join(err, os.Chtimes(path, at, at))
	})

	if err != nil {
		return "", err
	}

	deb := filepath.Join(out, "idletally_"+debianVersion(version)+"_"+arch+".deb")
	cmd := exec.Command("dpkg-deb", "--root-owner-group", "-Zxz", "--threads-max=1", "--build", root, deb)
	cmd.Env = append(os.Environ(), fmt.Sprintf("SOURCE_DATE_EPOCH=%d", at.Unix()))
	if b, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("dpkg-deb: %w: %s", err, b)
	}

	return deb, nil
}

type putFile func(to string, b []byte, mode fs.FileMode) error

// manualEnd is what pages of all commands have in common.
const manualEnd = `
.SH EXIT STATUS
0 done; 1 failed; 2 usage error; 3 the service does not answer; 4 drift or errors were found.
.SH ENVIRONMENT
IDLETALLY_OUTPUT, IDLETALLY_CONFIG, IDLETALLY_PROFILE, IDLETALLY_WIDE and IDLETALLY_NO_PAGER stand for the flags of these names; IDLETALLY_ADDRESS, IDLETALLY_AUTHORITY and
IDLETALLY_TOKEN are what a program signs in by; PAGER shows long answers.
.SH FILES
.TP
~/.config/idletally/
sessions, readable by their owner alone
.TP
/etc/idletally/service.yaml
settings of the service
.TP
/var/lib/idletally-agent/
an agent's own folder
`

// manuals are a page for each command.
func manuals(put putFile, at time.Time) error {
	dir, err := os.MkdirTemp("", "idletally-man-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)

	root := cli.Root()
	root.DisableAutoGenTag = true
	if err := doc.GenManTree(root,
		&doc.GenManHeader{Title: "IDLETALLY", Section: "1", Date: &at, Source: "Idle Tally", Manual: "Idle Tally"},
		dir); err != nil {
		return err
	}

	names, err := os.ReadDir(dir)
	if err != nil {
		return err
	}

	for _, n := range names {
		b, err := os.ReadFile(filepath.Join(dir, n.Name()))
		if err != nil {
			return err
		}

		var z bytes.Buffer
		w, err := gzip.NewWriterLevel(&z, gzip.BestCompression)
		if err != nil {
			return err
		}
		if _, err := w.Write(append(b, manualEnd...)); err != nil {
			return err
		}
		if err := w.Close(); err != nil {
			return err
		}
		if err := put("usr/share/man/man1/"+n.Name()+".gz", z.Bytes(), 0o644); err != nil {
			return err
		}
	}

	return nil
}

func completions(put putFile) error {
	root := cli.Root()
	var bash, zsh, fish bytes.Buffer
	return errors.Join(root.GenBashCompletionV2(&bash, true), root.GenZshCompletion(&zsh),
		root.GenFishCompletion(&fish, true),
		put("usr/share/bash-completion/completions/idletally", bash.Bytes(), 0o644),
		put("usr/share/zsh/vendor-completions/_idletally", zsh.Bytes(), 0o644),
		put("usr/share/fish/vendor_completions.d/idletally.fish", fish.Bytes(), 0o644))
}

// A part is something that the program is made of.
type part struct {
	SPDXID     string `json:"SPDXID"`
	Name       string `json:"name"`
	Version    string `json:"versionInfo"`
	From       string `json:"downloadLocation"`
	Analyzed   bool   `json:"filesAnalyzed"`
	License    string `json:"licenseConcluded"`
	Declared   string `json:"licenseDeclared"`
	Copyright  string `json:"copyrightText"`
	References []ref  `json:"externalRefs,omitempty"`
	Sums       []sum  `json:"checksums,omitempty"`
}

type ref struct {
	Category string `json:"referenceCategory"`
	Type     string `json:"referenceType"`
	Locator  string `json:"referenceLocator"`
}

type sum struct {
	Algorithm string `json:"algorithm"`
	Value     string `json:"checksumValue"`
}

type relation struct {
	From string `json:"spdxElementId"`
	Kind string `json:"relationshipType"`
	To   string `json:"relatedSpdxElement"`
}

var notInID = regexp.MustCompile(`[^A-Za-z0-9.-]+`)

// contents writes down what a program is made of: Go's modules, as the program itself tells, and the
// console's packages.
func contents(program, to, version string, at time.Time) error {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return err
	}
	b, err := os.ReadFile(program)
	if err != nil {
		return err
	}

	hash := sha256.Sum256(b)
	none := "NOASSERTION"
	make := func(name, version, locator string) part {
		p := part{
			SPDXID:    "SPDXRef-" + notInID.ReplaceAllString(name+"-"+version, "-"),
			Name:      name,
			Version:   version,
			From:      none,
			License:   none,
			Declared:  none,
			Copyright: none,
		}

		if locator != "" {
			p.References = []ref{{"PACKAGE-MANAGER", "purl", locator}}
		}

		return p
	}

	self := make("idletally", version, "")
	self.Sums = []sum{{"SHA256", hex.EncodeToString(hash[:])}}
	parts := []part{
		self,
		make("go", strings.TrimPrefix(info.GoVersion, "go"),
			"pkg:generic/go@"+strings.TrimPrefix(info.GoVersion, "go")),
	}
	for _, d := range info.Deps {
		parts = append(parts, make(d.Path, d.Version, "pkg:golang/"+d.Path+"@"+d.Version))
	}

	var lock struct {
		Packages map[string]struct {
			Version string `json:"version"`
			Dev     bool   `json:"dev"`
		} `json:"packages"`
	}

	if b, err = os.ReadFile("console/package-lock.json"); err == nil {
		err = json.Unmarshal(b, &lock)
	}

	if err != nil {
		return fmt.Errorf("the console's packages: %w", err)
	}

	for path, p := range lock.Packages {
		if i := strings.LastIndex(path, "node_modules/"); i >= 0 && !p.Dev {
			name := path[i+len("node_modules/"):]
			parts = append(parts, make(name, p.Version, "pkg:npm/"+strings.Replace(name, "@", "%40", 1)+"@"+p.Version))
		}
	}

	slices.SortFunc(parts[1:], func(a, b part) int { return strings.Compare(a.SPDXID, b.SPDXID) })
	parts = slices.CompactFunc(parts, func(a, b part) bool { return a.SPDXID == b.SPDXID })
	relations := []relation{{"SPDXRef-DOCUMENT", "DESCRIBES", self.SPDXID}}
	for _, p := range parts[1:] {
		relations = append(relations, relation{self.SPDXID, "CONTAINS", p.SPDXID})
	}

	text, err := json.MarshalIndent(map[string]any{
		"spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT",
		"name":              filepath.Base(program),
		"documentNamespace": "https://saltmarsh.example/idletally/" + hex.EncodeToString(hash[:]),
		"creationInfo": map[string]any{
			"created":  at.Format(time.RFC3339),
			"creators": []string{"Tool: idletally-packaging"},
		},
		"packages": parts, "relationships": relations,
	}, "", "  ")

	if err != nil {
		return err
	}

	return os.WriteFile(to, append(text, '\n'), 0o644)
}

func sums(to string, files []string) error {
	var text strings.Builder
	for _, f := range files {
		b, err := os.ReadFile(f)
		if err != nil {
			return err
		}
		fmt.Fprintf(&text, "%x  %s\n", sha256.Sum256(b), filepath.Base(f))
	}
	return os.WriteFile(to, []byte(text.String()), 0o644)
}
