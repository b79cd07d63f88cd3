package presence

import "cmp"

// Profile is what a person's token says of them besides their id.
type Profile struct {
	Name    string // may be empty
	Picture string // the address of a picture, may be empty
}

// CheckPerson tells whether a person can be known by this id and profile. Its
// error is a [*Refusal] that names the field.
func CheckPerson(user UserID, profile Profile) error {
	return cmp.Or(
		checkText(CodeBadUser, "user", string(user), maxUserID, required),
		checkText(CodeBadProfile, "name", profile.Name, maxName, optional),
		checkText(CodeBadProfile, "picture", profile.Picture, maxPicture, optional),
	)
}

// Status is what others see of a person.
type Status string

const (
	Online  Status = "online"  // has an unended session
	Offline Status = "offline" // has none
)

// person is known to the core while they have an unended session.
type person struct {
	id       UserID
	profile  Profile
	sessions []*session
	members  []*member
}

func (p *person) status() Status {
	if len(p.sessions) == 0 {
		return Offline
	}
	return Online
}

// setProfile takes over what the newest token says, in every room at once.
func (c *Core) setProfile(p *person, profile Profile, out *Effects) {
	if p.profile == profile {
		return
	}
	before := make([]Member, len(p.members))
	for i, m := range p.members {
		before[i] = m.shown()
	}
	p.profile = profile
	for i, m := range p.members {
		out.add(MemberChanged{Room: m.room.name, Before: before[i], After: m.shown()})
	}
}

func tooManySessions(p Policy) error {
	return &Refusal{Code: CodeTooManySessions, Field: "user",
		Allowed: plural(p.SessionsPerPerson, "session") + " at once for one person"}
}
