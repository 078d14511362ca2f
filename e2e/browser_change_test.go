package e2e

import (
	"encoding/base64"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"idletally/demo"
	"idletally/e2e/browser"
	"idletally/internal/client"
	"idletally/internal/core/access"
	"idletally/internal/wire"
)

// A changer changes paths in a browser, as somebody does who has not read how.
type changer struct {
	t    *testing.T
	s    *demo.Stage
	b    *browser.Browser
	film *[][]byte // a picture of each task, where IDLETALLY_FILM says where to put them
}

// picture takes a picture of what is seen before somebody decides.
func (c changer) picture() {
	c.t.Helper()
	if c.film == nil {
		return
	}
	var png []byte
	must(c.t, c.b.Do(chromedp.Evaluate("scrollTo(0, 0)", nil), chromedp.CaptureScreenshot(&png)))
	*c.film = append(*c.film, png)
}

// sheet puts the pictures of all tasks on one sheet, three beside each other.
func (c changer) sheet(file string, names []string) {
	c.t.Helper()
	var page strings.Builder
	page.WriteString("<body style='margin:0;display:grid;grid-template-columns:repeat(3,640px);" +
		"font:600 17px sans-serif;background:#fff'>")
	for i := range *c.film {
		fmt.Fprintf(&page, "<div style='padding:8px 6px 2px'>%d. %s</div>", i+1, names[i])
		if i%3 != 2 {
			continue
		}
		for _, png := range (*c.film)[i-2 : i+1] {
			fmt.Fprintf(&page, "<img style='width:634px;border:1px solid #888' src='data:image/png;base64,%s'>",
				base64.StdEncoding.EncodeToString(png))
		}
	}
	at := filepath.Join(c.t.TempDir(), "sheet.html")
	must(c.t, os.WriteFile(at, []byte(page.String()), 0o600))
	b := open(c.t, c.s, 1920, 1290, false)
	must(c.t, b.Do(chromedp.Navigate("file://"+at), chromedp.Sleep(time.Second)))
	must(c.t, b.Shot(file))
}

// at opens what is to be changed, where one looks at it.
func (c changer) at(host, path string) {
	c.t.Helper()
	must(c.t, c.b.Go(fmt.Sprintf("/look?host=%s&path=%s", host, strings.ReplaceAll(path, " ", "%20"))))
	must(c.t, c.b.Press("Change it…"))
	must(c.t, c.b.See("Nothing is to change yet"))
}

// fill types into the field of a label, or chooses there.
func (c changer) fill(label, text string) {
	c.t.Helper()
	const find = `(() => {
		const at = [...document.querySelectorAll("label")].find((l) => l.textContent.trim() === %q);
		if (!at) return "";
		const field = document.querySelector('[aria-labelledby~="' + at.id + '"]') ?? at.control;
		document.querySelectorAll("[data-fill]").forEach((e) => e.removeAttribute("data-fill"));
		field.setAttribute("data-fill", "");
		field.focus();
		if (field.select) field.select();
		return field.tagName;
	})()`
	var tag string
	for end := time.Now().Add(patience); tag == "" && time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		must(c.t, c.b.Do(chromedp.Evaluate(fmt.Sprintf(find, label), &tag)))
	}
	if tag == "" {
		c.t.Fatalf("there is no field %q", label)
	}
	must(c.t, c.b.Do(chromedp.SendKeys("[data-fill]", text, chromedp.ByQuery)))
}

// pick types into a field, and takes the first of what is offered.
func (c changer) pick(label, text string) {
	c.t.Helper()
	c.fill(label, text)
	must(c.t, c.b.Do(chromedp.Click(fmt.Sprintf(`//*[@role="option"][contains(., %q)]`, strings.Fields(text)[0]),
		chromedp.BySearch)))
}

// tick ticks the box, or chooses the one of a few, of a label that begins so.
func (c changer) tick(label string) {
	c.t.Helper()
	must(c.t, c.b.Do(chromedp.Click(fmt.Sprintf(`//label[span[starts-with(normalize-space(.), %q)]]`, label),
		chromedp.BySearch)))
}

// foresees wants what it would come to to begin so, and to be of what is wished.
func (c changer) foresees(text string) {
	c.t.Helper()
	must(c.t, c.b.See(text))
	must(c.t, c.b.Do(chromedp.WaitEnabled(`//button[.="Draft a plan"]`, chromedp.BySearch)))
	c.picture()
}

// drafts drafts the plan, has it reviewed and run, and returns it.
func (c changer) drafts(button string) wire.Plan {
	c.t.Helper()
	must(c.t, c.b.Press(button))
	must(c.t, c.b.Do(chromedp.WaitVisible(`//h2[contains(., "Step by step")]`, chromedp.BySearch)))
	var at string
	must(c.t, c.b.Do(chromedp.Location(&at)))
	p, err := as(c.t, c.s, "quartermaster").Plan(c.t.Context(), at[strings.LastIndex(at, "/")+1:])
	must(c.t, err)
	if r := agreed(c.t, c.s, p); r.State != "finished" {
		c.t.Fatalf("%+v", r)
	}
	return p
}

// can asks the host itself, by its kernel, whether an account can do something.
func (c changer) can(account string, op access.Operation, host, path string) bool {
	c.t.Helper()
	live := client.Looker{Client: as(c.t, c.s, "bosun"), Host: host}
	p, err := live.Probe(c.t.Context(), account, path)
	must(c.t, err)
	for _, r := range p.Rows {
		if r.Operation == op {
			return r.Tried.Allowed
		}
	}
	c.t.Fatalf("nobody tried %s: %+v", op, p.Rows)
	return false
}

// mode returns a path's mode, as it is on the host's own disk.
func (c changer) mode(path string) fs.FileMode {
	c.t.Helper()
	st, err := os.Stat(filepath.Join(c.s.Root("slip-north"), path))
	must(c.t, err)
	return st.Mode() & (fs.ModePerm | fs.ModeSticky)
}

// plans counts the plans that there are.
func (c changer) plans() int {
	c.t.Helper()
	list, err := as(c.t, c.s, "quartermaster").Plans(c.t.Context(), "", 100)
	must(c.t, err)
	return len(list)
}

// What people come with is done in the browser, from where they look to a plan that others review, on real hosts and
// a real share: nine tasks of practitioners.
func TestConsoleChanges(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	must(t, s.OpenChartroom(t.Context()))
	// A web server's account is shut out of a part of its site.
	must(t, os.Chmod(filepath.Join(s.Root("slip-north"), "srv/ticketing/site/route-00"), 0o700))
	api := as(t, s, "quartermaster")
	snap, err := api.TakeSnapshot(t.Context(), wire.NewSnapshot{Application: "ticketing", Host: "slip-north"})
	must(t, err)
	awaitSnapshot(t, api, snap.ID)
	quiet(t, api)

	b := open(t, s, 1280, 800, false)
	must(t, b.SignIn("quartermaster", demo.Password))
	c := changer{t: t, s: s, b: b}
	film := os.Getenv("IDLETALLY_FILM")
	if film != "" {
		c.film = &[][]byte{}
	}
	tasks := []struct {
		name string
		do   func(changer)
	}{
		{"a clerk reads one file, the least way", changer.leastWay},
		{"not everyone writes a folder", changer.notEveryone},
		{"a private key is closed", changer.privateKey},
		{"a folder of somebody who left is handed over and back", changer.handOver},
		{"a share's folder stops inheriting and keeps its entries", changer.stopInheriting},
		{"a forced reset is seen and abandoned", changer.forcedReset},
		{"a web server gets through to its site", changer.webServer},
		{"a drop folder", changer.dropFolder},
		{"a deny that catches its own author", changer.ownDeny},
	}
	var names []string
	for _, task := range tasks {
		names = append(names, task.name)
		t.Run(task.name, func(t *testing.T) {
			of := c
			of.t = t
			began := time.Now()
			task.do(of)
			t.Logf("took %s", time.Since(began).Round(100*time.Millisecond))
		})
	}
	t.Run("marked paths", func(t *testing.T) { changer{t: t, s: s, b: b}.marked() })
	t.Run("where to begin", func(t *testing.T) { changer{t: t, s: s, b: b}.begins() })
	t.Run("the baseline's word", func(t *testing.T) { changer{t: t, s: s, b: b}.baselinesWord() })
	if faults := b.Faults(); len(faults) > 0 {
		t.Errorf("the page complains: %v", faults)
	}
	t.Run("a host that does not answer", func(t *testing.T) { changer{t: t, s: s, b: b}.silentHost() })
	if film != "" {
		c.sheet(film, names)
	}
}

func (c changer) leastWay() {
	const key = "/srv/ticketing/keys/gate.key"
	if c.can("clerk-east", access.Read, "slip-north", key) {
		c.t.Fatal("the clerk can read it already")
	}
	must(c.t, c.b.Go("/look?host=slip-north&tab=who&for=clerk-east&operation=read&path="+key))
	must(c.t, c.b.Press("What would it take?"))
	must(c.t, c.b.See("an entry user:clerk-east:x on /srv/ticketing/keys"))
	must(c.t, c.b.Press("Compose it further…"))
	c.foresees("1 path would change; clerk-east could do more")
	c.drafts("Draft a plan")
	if !c.can("clerk-east", access.Read, "slip-north", key) {
		c.t.Error("the clerk cannot read it")
	}
	if c.can("clerk-west", access.Write, "slip-north", key) {
		c.t.Error("and somebody else can write it")
	}
}

func (c changer) notEveryone() {
	const logs = "/srv/ticketing/logs"
	c.at("slip-north", logs)
	must(c.t, c.b.Press("others: write"))
	c.foresees("1 path would change; everyone could do less")
	axe(c.t, c.b, "composing a change")
	c.drafts("Draft a plan")
	if m := c.mode(logs); m.Perm() != 0o775 || c.can("nobody", access.Create, "slip-north", logs) {
		c.t.Errorf("it is %v, and nobody in particular may write it", m)
	}
}

// startsFrom composes a change by a starting point.
func (c changer) startsFrom(path, form, comesTo string) {
	c.t.Helper()
	c.at("slip-north", path)
	must(c.t, c.b.Press("Start from…"))
	c.tick(form)
	c.foresees(comesTo)
}

func (c changer) privateKey() {
	c.startsFrom("/srv/ticketing/keys/tls.key", "Private key", "1 path would change; clerk-west could do less")
	axe(c.t, c.b, "starting points")
	c.drafts("Draft a plan")
	if m := c.mode("/srv/ticketing/keys/tls.key"); m.Perm() != 0o600 {
		c.t.Errorf("it is %v", m)
	}
}

// owners counts the paths below a folder by who owns them.
func (c changer) owners(folder string) map[uint32]int {
	c.t.Helper()
	out := map[uint32]int{}
	must(c.t, filepath.WalkDir(filepath.Join(c.s.Root("slip-north"), folder),
		func(_ string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			st, err := d.Info()
			if err == nil {
				out[st.Sys().(*syscall.Stat_t).Uid]++
			}
			return err
		}))
	return out
}

func (c changer) handOver() {
	const shared = "/srv/ticketing/shared"
	before := c.owners(shared)
	const left = 4711
	if before[left] == 0 {
		c.t.Fatalf("nobody who left owns anything there: %v", before)
	}
	c.at("slip-north", shared)
	c.fill("How far", "with all that is in it")
	c.fill("Only what this account owns", "4711")
	c.fill("Owner", "purser")
	c.foresees(fmt.Sprintf("%d paths would change", before[left]))
	c.drafts("Draft a plan")
	if after := c.owners(shared); after[left] != 0 {
		c.t.Errorf("before %v, after %v", before, after)
	}

	must(c.t, c.b.Go("/runs"))
	must(c.t, c.b.Press("Adjustment of ticketing"))
	must(c.t, c.b.Press("Put it back…"))
	c.drafts("Draft it")
	if back := c.owners(shared); fmt.Sprint(back) != fmt.Sprint(before) {
		c.t.Errorf("before %v, and back %v", before, back)
	}
}

func (c changer) stopInheriting() {
	const north = "/charts/north sound"
	c.at(demo.Chartroom, north)
	c.tick("stop, and keep")
	c.foresees("1 path would change; nobody's access differs")
	must(c.t, c.b.See("what is granted or taken away above has no effect here"))
	axe(c.t, c.b, "composing a change on a share")
	c.drafts("Draft a plan")
	live := client.Looker{Client: as(c.t, c.s, "bosun"), Host: demo.Chartroom}
	v, err := live.Sight(c.t.Context(), north)
	if err != nil || v.Access.Inheritance != "stopped" || len(v.Entries) < 4 {
		c.t.Errorf("%+v, %v", v, err)
	}
}

func (c changer) forcedReset() {
	plans := c.plans()
	c.at(demo.Chartroom, "/charts/north sound")
	must(c.t, c.b.Press("Reset what is below it"))
	c.foresees("paths would change")
	must(c.t, c.b.See("the entries that were set there by themselves go"))
	must(c.t, c.b.Press("Look"))
	must(c.t, c.b.Do(chromedp.WaitVisible(`//h1[.="Look"]`, chromedp.BySearch)))
	if n := c.plans(); n != plans {
		c.t.Errorf("there were %d plans, and are %d", plans, n)
	}
}

func (c changer) webServer() {
	const part = "/srv/ticketing/site/route-00"
	if c.can("www-tickets", access.List, "slip-north", part) {
		c.t.Fatal("it gets there already")
	}
	must(c.t, c.b.Go("/look?host=slip-north&tab=who&for=www-tickets&operation=list&path="+part))
	must(c.t, c.b.Press("What would it take?"))
	must(c.t, c.b.See("Draft a plan of it"))
	c.picture()
	c.drafts("Draft a plan of it")
	if !c.can("www-tickets", access.List, "slip-north", part) {
		c.t.Error("it does not get there")
	}
}

func (c changer) dropFolder() {
	const drop = "/srv/ticketing/drop"
	c.startsFrom(drop, "Drop folder", "1 path would change")
	c.drafts("Draft a plan")
	if m := c.mode(drop); m != 0o770|fs.ModeSticky {
		c.t.Errorf("it is %v", m)
	}
}

func (c changer) ownDeny() {
	plans := c.plans()
	c.at(demo.Chartroom, "/charts/saltmarsh")
	c.fill("An entry that", "denies")
	c.fill("Whom", "keepers")
	c.fill("Named or single rights", "full")
	must(c.t, c.b.Press("Deny"))
	c.foresees("grave caution")
	must(c.t, c.b.See("deny keepers: full"))
	if n := c.plans(); n != plans {
		c.t.Errorf("there were %d plans, and are %d", plans, n)
	}
}

// Paths that are marked in a listing are changed together.
func (c changer) marked() {
	must(c.t, c.b.Go("/look?host=slip-north&path=/srv/ticketing/logs"))
	must(c.t, c.b.Press("Mark sales-001.log"))
	must(c.t, c.b.Press("Mark sales-002.log"))
	c.pick("Where", "slip-south now") // what was marked is of the one host
	must(c.t, c.b.See("Asked of slip-south itself"))
	var marked bool
	must(c.t, c.b.Do(chromedp.Evaluate(`document.body.innerText.includes("marked path")`, &marked)))
	if marked {
		c.t.Error("what was marked on one host is to be changed on another")
	}
	must(c.t, c.b.Go("/look?host=slip-north&path=/srv/ticketing/logs"))
	must(c.t, c.b.Press("Mark sales-001.log"))
	must(c.t, c.b.Press("Mark sales-002.log"))
	must(c.t, c.b.Press("Change the 2 marked paths…"))
	must(c.t, c.b.See("/srv/ticketing/logs/sales-002.log"))
	must(c.t, c.b.Press("others: write"))
	c.foresees("2 paths would change")
	must(c.t, c.b.See("idletally change /srv/ticketing/logs/sales-001.log /srv/ticketing/logs/sales-002.log"))
}

// What a change makes becomes a rule in the editor, behind the others, and the text is sound.
func (c changer) baselinesWord() {
	c.startsFrom("/srv/ticketing/keys/backup.key", "Secret", "1 path would change")
	must(c.t, c.b.Press("Make it the baseline’s word…"))
	must(c.t, c.b.See("A sound baseline of ticketing"))
	must(c.t, c.b.See("wished"))
}

// An empty page to look at helps: what was looked at lately, roots, and questions with an example filled in.
func (c changer) begins() {
	must(c.t, c.b.Go("/look?host=slip-north&path=/srv/ticketing/site"))
	must(c.t, c.b.Go("/look"))
	must(c.t, c.b.See("Looked at lately"))
	must(c.t, c.b.See("Roots of applications"))
	axe(c.t, c.b, "where to begin to look")
	must(c.t, c.b.Press("Who can write here?"))
	must(c.t, c.b.Do(chromedp.WaitVisible(`//code[.="idletally access decide"] | //th[contains(., "purser")]`,
		chromedp.BySearch)))
}

// Where a host does not answer, a change is composed from how it was seen last.
func (c changer) silentHost() {
	c.s.Agents["slip-south"].Stop()
	must(c.t, c.b.Go("/change?host=slip-south&path=/srv/ticketing/logs"))
	must(c.t, c.b.See("slip-south has not answered yet"))
	must(c.t, c.b.Press("others: write"))
	must(c.t, c.b.See("1 path would change; everyone could do less"))
}
