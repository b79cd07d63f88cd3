// Package rehearsal plays days of presence against the core: a simulated world of people with
// tabs, phones and devices. Pages reload, freeze and close, cables are cut, laptops sleep, and
// the service pauses and restarts. The world knows the truth at every instant, and scores what
// the core says against the bounds that the policy promises.
//
// The core is the one that the service runs. A rehearsal is a function of its options: the same
// seed gives the same score.
package rehearsal
