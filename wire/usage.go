package wire

// Usage is what a realm has used, step by step, and how much of its quotas it uses now. Steps begin in UTC; those in
// which the service did not run are left out.
type Usage struct {
	Realm  string       `json:"realm"`
	Step   string       `json:"step" jsonschema:"enum=hour,enum=day,enum=month"`
	From   Time         `json:"from"` // the beginning of the first step
	To     Time         `json:"to"`
	Total  Used         `json:"total"`
	Steps  []UsedInStep `json:"steps"`
	Quotas []QuotaUse   `json:"quotas"` // those that have a limit
}

// UsedInStep is what a realm has used in a step of time.
type UsedInStep struct {
	At Time `json:"at"` // when the step begins
	Used
}

// Used is what a realm has used in some time.
type Used struct {
	PeopleMinutes  float64 `json:"people_minutes"`  // of people with a session: two people for half an hour are 60
	SessionMinutes float64 `json:"session_minutes"` // of sessions, with their time in grace
	PeakPeople     int     `json:"peak_people"`     // the most at once
	PeakSessions   int     `json:"peak_sessions"`
	PeakLinks      int     `json:"peak_links"` // sessions with a link
	Cues           int     `json:"cues"`       // given by people and by the back end
	Measured       int64   `json:"measured"`   // milliseconds during which the service ran
}

// QuotaUse is how much of a quota a realm uses. Used counts people with a session, sessions with those in grace, or the
// cues of the present minute.
type QuotaUse struct {
	Quota string `json:"quota" jsonschema:"enum=people,enum=sessions,enum=cues"`
	Used  int    `json:"used"`
	Limit int    `json:"limit"`
	Near  bool   `json:"near"` // 80 % or more is used
}
