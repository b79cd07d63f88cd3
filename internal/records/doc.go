// Package records keeps what has to outlive the service in one SQLite file of the
// data directory: realms, keys, and removals. What is written here is durable when the
// call returns.
//
// It knows nothing of what the rows mean to others, and may import nothing of the
// house but presence.
package records
