package view

import "orilla.example/orilla/internal/console"

// Finding is one thing that orilla doctor looked at.
type Finding struct {
	About string `json:"about"`
	State string `json:"state"` // "good", "remark", "bad"
	Text  string `json:"text"`
	Mend  string `json:"mend,omitempty"` // what to do about it
}

// Good returns a finding of something that is as it should be.
func Good(about, text string) Finding { return Finding{About: about, State: "good", Text: text} }

// Remark returns a finding of something that keeps nothing
// from working; mend may be empty.
func Remark(about, text, mend string) Finding {
	return Finding{About: about, State: "remark", Text: text, Mend: mend}
}

// Bad returns a finding of something that keeps the
// project from being deployed.
func Bad(about, text, mend string) Finding {
	return Finding{About: about, State: "bad", Text: text, Mend: mend}
}

// sign is what a finding's line begins with.
func (f Finding) sign() string {
	switch f.State {
	case "good":
		return console.Good("ok  ")
	case "bad":
		return console.Bad("bad ")
	}
	return console.Warn("warn")
}

// PrintDoctor lists findings, and says at the end how many are bad.
func PrintDoctor(c *console.Console, findings []Finding) {
	const column = 21 // where texts begin; commands are not broken, since they are copied
	bad := int64(0)
	for _, f := range findings {
		c.Print("%s  %-14s %s", f.sign(), f.About, console.Hanging(c, column, f.Text))
		if f.Mend != "" {
			c.Print("      %-14s %s %s", "", console.Accent("fix:"), c.Complete(f.Mend))
		}
		if f.State == "bad" {
			bad++
		}
	}

	if bad == 0 {
		c.Print("%s", console.Good("ready: everything this project needs is here"))
		return
	}
	c.Print("%s", console.Bad(console.Count(bad, "problem prevents", "problems prevent")+
		" deploys of this project"))
}
