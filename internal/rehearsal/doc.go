// Package rehearsal plays days of presence against the core: a made-up world of
// people with tabs, phones and devices, whose pages reload, freeze and close, whose
// cables are cut and whose laptops sleep, before a service that pauses and
// restarts. The world knows the truth at every instant, and scores what the core
// says of it against the bounds that the policy promises.
//
// The core is the one that the service runs. A rehearsal is a function of its
// options: the same seed gives the same score.
package rehearsal
