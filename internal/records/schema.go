package records

// migrations bring the file from each version to the next. One that has been released
// is never changed.
//
// Times in the tables of the second are Unix milliseconds, and 0 stands for none.
var migrations = [][]string{
	{
		"CREATE TABLE `realms` (`name` text,`created` datetime,PRIMARY KEY (`name`))",
		"CREATE TABLE `operator_keys` (`id` text,`realm` text,`name` text,`role` text,`rooms` text,`hash` blob,`created` datetime,`expires` datetime,`revoked` datetime,`last_used` datetime,PRIMARY KEY (`id`))",
		"CREATE INDEX `idx_operator_keys_realm` ON `operator_keys`(`realm`)",
		"CREATE TABLE `token_keys` (`id` text,`realm` text,`algorithm` text,`material` blob,`issuer` text,`audience` text,`created` datetime,`expires` datetime,`revoked` datetime,PRIMARY KEY (`id`))",
		"CREATE INDEX `idx_token_keys_realm` ON `token_keys`(`realm`)",
		"CREATE TABLE `removals` (`realm` text,`user` text,`room` text,`at` datetime,PRIMARY KEY (`realm`,`user`,`room`))",
	},
	{
		`CREATE TABLE runs (id INTEGER PRIMARY KEY, started INTEGER NOT NULL, mark INTEGER NOT NULL, stopped INTEGER NOT NULL DEFAULT 0)`,
		`CREATE TABLE marks (name TEXT PRIMARY KEY, value INTEGER NOT NULL) WITHOUT ROWID`,

		`CREATE TABLE people (realm TEXT NOT NULL, user TEXT NOT NULL, name TEXT NOT NULL DEFAULT '', picture TEXT NOT NULL DEFAULT '',
			attributes TEXT, first_seen INTEGER NOT NULL DEFAULT 0, last_seen INTEGER NOT NULL DEFAULT 0,
			last_seen_open INTEGER NOT NULL DEFAULT 0, state BLOB, PRIMARY KEY (realm, user)) WITHOUT ROWID`,
		`CREATE INDEX people_with_state ON people (realm) WHERE state IS NOT NULL`,
		`CREATE INDEX people_last_seen ON people (realm, last_seen) WHERE last_seen > 0`,
		`CREATE TABLE rooms (realm TEXT NOT NULL, room TEXT NOT NULL, expected TEXT, created INTEGER NOT NULL, PRIMARY KEY (realm, room)) WITHOUT ROWID`,

		`CREATE TABLE journal (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, realm TEXT NOT NULL, kind TEXT NOT NULL, room TEXT NOT NULL DEFAULT '',
			user TEXT NOT NULL DEFAULT '', session TEXT NOT NULL DEFAULT '', link INTEGER NOT NULL DEFAULT 0, over TEXT NOT NULL DEFAULT '',
			status TEXT NOT NULL DEFAULT '', was TEXT NOT NULL DEFAULT '', note TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT '',
			length INTEGER NOT NULL DEFAULT 0, lost INTEGER NOT NULL DEFAULT 0, open INTEGER NOT NULL DEFAULT 0)`,
		`CREATE INDEX journal_of_room ON journal (realm, room) WHERE room <> ''`,
		`CREATE INDEX journal_of_person ON journal (realm, user) WHERE user <> ''`,
		// Which ids the entries of a minute have: an index by time at a row a minute.
		`CREATE TABLE journal_minutes (minute INTEGER PRIMARY KEY, first INTEGER NOT NULL, last INTEGER NOT NULL)`,

		`CREATE TABLE headcounts (realm TEXT NOT NULL, room TEXT NOT NULL, step INTEGER NOT NULL, at INTEGER NOT NULL,
			people_min INTEGER NOT NULL, people_max INTEGER NOT NULL, people_time INTEGER NOT NULL, people_close INTEGER NOT NULL,
			sessions_min INTEGER NOT NULL, sessions_max INTEGER NOT NULL, sessions_time INTEGER NOT NULL, sessions_close INTEGER NOT NULL,
			span INTEGER NOT NULL, visitors INTEGER NOT NULL, joins INTEGER NOT NULL, leaves INTEGER NOT NULL, peak INTEGER NOT NULL,
			PRIMARY KEY (realm, room, step, at)) WITHOUT ROWID`,
		`CREATE INDEX headcounts_by_time ON headcounts (step, at)`,

		`CREATE TABLE hooks (id TEXT PRIMARY KEY, realm TEXT NOT NULL, name TEXT NOT NULL DEFAULT '', url TEXT NOT NULL, kinds TEXT NOT NULL,
			rooms TEXT, view TEXT NOT NULL, above INTEGER, below INTEGER, secret TEXT NOT NULL,
			old_secret TEXT NOT NULL DEFAULT '', old_until INTEGER NOT NULL DEFAULT 0, paused INTEGER NOT NULL DEFAULT 0, created INTEGER NOT NULL)`,
		`CREATE TABLE deliveries (id INTEGER PRIMARY KEY, hook TEXT NOT NULL, lane TEXT NOT NULL, kind TEXT NOT NULL, room TEXT NOT NULL DEFAULT '',
			user TEXT NOT NULL DEFAULT '', event TEXT NOT NULL, body BLOB NOT NULL, created INTEGER NOT NULL, state TEXT NOT NULL, attempts INTEGER NOT NULL DEFAULT 0,
			tried INTEGER NOT NULL DEFAULT 0, due INTEGER NOT NULL DEFAULT 0, answered INTEGER NOT NULL DEFAULT 0, answer TEXT NOT NULL DEFAULT '',
			error TEXT NOT NULL DEFAULT '', took INTEGER NOT NULL DEFAULT 0)`,
		`CREATE INDEX deliveries_of_hook ON deliveries (hook)`,
		`CREATE INDEX deliveries_waiting ON deliveries (hook, lane) WHERE state = 'waiting'`,
	},
	{
		`CREATE TABLE sign_ins (hash BLOB PRIMARY KEY, proof BLOB NOT NULL, key TEXT NOT NULL, expires INTEGER NOT NULL) WITHOUT ROWID`,
	},
	{ // From here on deleted rows are overwritten; VACUUM removes the older ones.
	},
	{
		`ALTER TABLE journal ADD COLUMN other TEXT NOT NULL DEFAULT ''`,
	},
	{ // What it takes to choose timings.
		`ALTER TABLE journal ADD COLUMN wanted TEXT NOT NULL DEFAULT ''`,
		`ALTER TABLE journal ADD COLUMN unheard INTEGER NOT NULL DEFAULT 0`,
		`ALTER TABLE journal ADD COLUMN page_hidden INTEGER NOT NULL DEFAULT 0`,
		`ALTER TABLE journal ADD COLUMN by TEXT NOT NULL DEFAULT ''`,
		`CREATE TABLE typings (realm TEXT NOT NULL, room TEXT NOT NULL, hour INTEGER NOT NULL, length INTEGER NOT NULL, expired INTEGER NOT NULL,
			times INTEGER NOT NULL, PRIMARY KEY (realm, room, hour, length, expired)) WITHOUT ROWID`,
		`CREATE INDEX typings_by_hour ON typings (hour)`,
	},
	{ // What it takes to find everything about somebody.
		`CREATE INDEX journal_of_other ON journal (realm, other) WHERE other <> ''`,
		`ALTER TABLE deliveries ADD COLUMN other TEXT NOT NULL DEFAULT ''`,
	},
	{ // Up to where the file has the rows of a cluster's log: one row, or none.
		`CREATE TABLE log (log TEXT NOT NULL, sequence INTEGER NOT NULL, hash BLOB NOT NULL)`,
	},
	{ // To find the opening of a session that a carrier reports.
		`CREATE INDEX journal_opened ON journal (realm, session) WHERE kind = 'session.opened'`,
	},
	{ // What the nodes of a cluster have in common of their configuration: one row, or none.
		`CREATE TABLE configurations (id INTEGER PRIMARY KEY, version INTEGER NOT NULL, text BLOB NOT NULL)`,
	},
	{ // From where in the log a node reads on, and what the log said before.
		`ALTER TABLE log ADD COLUMN at INTEGER NOT NULL DEFAULT 0`,
		`ALTER TABLE log ADD COLUMN state BLOB`,
		`ALTER TABLE log ADD COLUMN entry INTEGER NOT NULL DEFAULT 0`,
		`ALTER TABLE log ADD COLUMN delivery INTEGER NOT NULL DEFAULT 0`,
	},
	{ // What a realm uses.
		`ALTER TABLE headcounts ADD COLUMN links_max INTEGER NOT NULL DEFAULT 0`,
		`ALTER TABLE headcounts ADD COLUMN links_close INTEGER NOT NULL DEFAULT 0`,
		`ALTER TABLE headcounts ADD COLUMN cues INTEGER NOT NULL DEFAULT 0`,
	},
	{ // Indexes of the journal that go by blocks of entries.
		`DROP INDEX journal_of_room`,
		`DROP INDEX journal_of_person`,
		`DROP INDEX journal_of_other`,
		`CREATE INDEX journal_of_room ON journal (id >> 18, realm, room) WHERE room <> ''`,
		`CREATE INDEX journal_of_person ON journal (id >> 18, realm, user) WHERE user <> ''`,
		`CREATE INDEX journal_of_other ON journal (id >> 18, realm, other) WHERE other <> ''`,
	},
}

// clean is the first version that overwrites deleted rows in the file.
const clean = 3
