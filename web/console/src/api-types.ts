// Made from wire/openapi.json by web/types/make.mjs (make types); do not edit.

export interface components {
    schemas: {
        /** @description Ask is somebody who asks to be let into a room. */
        readonly Ask: {
            /** @description its id */
            readonly ask: string;
            readonly name?: string;
            readonly picture?: string;
            readonly room: string;
            /** Format: date-time */
            readonly since: string;
            /**
             * Format: date-time
             * @description when it expires without an answer
             */
            readonly until: string;
            readonly user: string;
        };
        /** @description Asks are open asks, the oldest first. */
        readonly Asks: {
            readonly asks: readonly components["schemas"]["Ask"][];
        };
        /** @description Attendance lists who was in a room, or had sessions, between two times. */
        readonly Attendance: {
            /** Format: date-time */
            readonly from: string;
            readonly room?: string;
            readonly stays: readonly components["schemas"]["Stay"][];
            /** Format: date-time */
            readonly to: string;
        };
        /**
         * @description Beating is the body of PUT /v1/sessions/{id}: a beat over HTTP, with what has changed since
         *     the previous one.
         */
        readonly Beating: {
            /** @description there was human input */
            readonly active?: boolean;
            /** @enum {string} */
            readonly device?: "desktop" | "phone" | "tablet" | "device";
            /**
             * @description Doing is what the person is doing, by room: an object, or null for nothing. Other rooms keep
             *     what they have.
             */
            readonly doing?: {
                readonly [key: string]: unknown;
            };
            /** @description there is no human input */
            readonly idle?: boolean;
            /** @description milliseconds */
            readonly idle_for?: number;
            /** @description the session has no human input; the token must grant it */
            readonly no_input?: boolean;
            readonly nonce?: string;
            readonly page_hidden?: boolean;
            /** @description empty for a new session */
            readonly resume_key?: string;
            /** @description Revs are the revisions of counts that the client has, by room. */
            readonly revs?: {
                readonly [key: string]: string;
            };
            /** @description the rooms to be in from now on; null keeps them */
            readonly rooms?: readonly string[];
            /** @description the rooms in which the person is typing now; null keeps them */
            readonly typing?: readonly string[];
        };
        /**
         * @description ClosingAnswer tells whether the note had an effect. It had none if the session has ended, or has
         *     a newer page.
         */
        readonly ClosingAnswer: {
            readonly applied: boolean;
        };
        /** @description ClosingNote is the body of POST /v1/closing: a page's beacon. */
        readonly ClosingNote: {
            readonly nonce: string;
            readonly resume_key: string;
            readonly session: string;
        };
        /** @description Count says how many people and sessions are in a room. */
        readonly Count: {
            readonly away: components["schemas"]["Tally"];
            readonly busy: components["schemas"]["Tally"];
            /** @description of them, by the status of the person */
            readonly online: components["schemas"]["Tally"];
            readonly people: number;
            readonly sessions: number;
        };
        /**
         * @description Counts are the counts of rooms, in the order of the request. A room that does not exist counts
         *     as empty.
         */
        readonly Counts: {
            readonly counts: readonly components["schemas"]["Room"][];
        };
        /** @description CountsAsked names rooms. */
        readonly CountsAsked: {
            readonly rooms: readonly string[];
        };
        /** @description CueGiven says how many links a cue was sent to. */
        readonly CueGiven: {
            readonly links: number;
        };
        /** @description Declaration lists the people whom a declared room expects. */
        readonly Declaration: {
            /** @description user ids */
            readonly expected: readonly string[];
        };
        /**
         * @description DeclaredRoom is a declared room with the people whom it expects, and those of them who are
         *     missing now.
         */
        readonly DeclaredRoom: {
            readonly declared: boolean;
            readonly expected: readonly string[];
            readonly missing: readonly string[];
            readonly room: string;
        };
        /**
         * @description Deliveries is a page of deliveries, newest first. Older is the before of the next page; absent
         *     on the last page.
         */
        readonly Deliveries: {
            readonly deliveries: readonly components["schemas"]["Delivery"][];
            readonly older?: number;
        };
        /** @description Delivery is the delivery of an event to a hook. */
        readonly Delivery: {
            /** @description the beginning of the body of the last answer */
            readonly answer?: string;
            readonly answered?: number;
            readonly attempts: number;
            readonly body?: string;
            /** Format: date-time */
            readonly created: string;
            /**
             * Format: date-time
             * @description the time of the next attempt
             */
            readonly due?: string;
            readonly error?: string;
            readonly event: string;
            readonly hook: string;
            readonly id?: number;
            readonly kind: string;
            /** @enum {string} */
            readonly state: "waiting" | "delivered" | "parked";
            /** @description milliseconds */
            readonly took: number;
            /**
             * Format: date-time
             * @description the time of the last attempt
             */
            readonly tried?: string;
        };
        /** @description Document is an application/problem+json body (RFC 9457). Instance is the path of the request. */
        readonly Document: {
            /** @description what is allowed */
            readonly allowed?: string;
            readonly code: string;
            /** @description what is wrong, in words */
            readonly detail: string;
            /** @description which field is wrong */
            readonly field?: string;
            readonly instance: string;
            /** @description the id of the request, as in the log */
            readonly request?: string;
            readonly status: number;
            readonly title: string;
            /** @description the path of the page on the code */
            readonly type: string;
            /** @description its value, shortened */
            readonly value?: string;
        };
        /** @description Drained is the answer to a drain. */
        readonly Drained: {
            readonly node: string;
        };
        /**
         * @description Drop is a room, a pattern or a person that a client does not get, or no longer gets, with the
         *     reason.
         */
        readonly Drop: {
            /** @description what is allowed */
            readonly allowed?: string;
            readonly code: string;
            /** @description what is wrong, in words */
            readonly detail: string;
            /** @description which field is wrong */
            readonly field?: string;
            /** @description the path of the page on the code */
            readonly help: string;
            /** @description a room that the session is not in; with Watch, a room or pattern that is not watched */
            readonly room?: string;
            /** @description a person who is not watched */
            readonly user?: string;
            /** @description its value, shortened */
            readonly value?: string;
            /** @description it is about watching */
            readonly watch?: boolean;
        };
        /** @description Erasure says how much was deleted about a person, by kind. */
        readonly Erasure: {
            /** Format: date-time */
            readonly at: string;
            readonly erased: {
                readonly [key: string]: number;
            };
            /**
             * Format: date-time
             * @description LogUntil is up to when the log of a cluster still has what was written about them; absent: the
             *     service is alone.
             */
            readonly log_until?: string;
            readonly user: string;
        };
        /** @description Explanation says how a person is shown and why, with the evidence. */
        readonly Explanation: {
            /** Format: date-time */
            readonly at: string;
            /** @description Last is the journal entry that says how the last session, or the stay in the room, ended. */
            readonly last?: components["schemas"]["Record"];
            /** @description Member is the person as a member of the room; absent if they are not in it. */
            readonly member?: components["schemas"]["Member"];
            readonly name?: string;
            readonly note?: string;
            /**
             * @description Open is the status in the open view, if it differs.
             * @enum {string}
             */
            readonly open?: "online" | "away" | "busy" | "offline";
            /** @description the room that was asked about */
            readonly room?: string;
            /** @description Rules are the rules that decide a status, in the order in which they are tried. */
            readonly rules: readonly components["schemas"]["RuleTried"][];
            readonly sessions: readonly components["schemas"]["Session"][];
            /** @enum {string} */
            readonly status: "online" | "away" | "busy" | "offline";
            readonly typing?: boolean;
            /** Format: date-time */
            readonly until?: string;
            readonly user: string;
            /** @description Words explain it in sentences. */
            readonly words: readonly string[];
        };
        /**
         * @description GraceAdvice is advice for one grace: the smallest with which at most one of 1,000 returns comes
         *     too late to go unnoticed.
         */
        readonly GraceAdvice: {
            readonly advised?: components["schemas"]["GraceCost"];
            readonly curve: readonly components["schemas"]["GraceCost"][];
            /** @description Grace is absent if there are too few returns. */
            readonly grace?: components["schemas"]["Quantile"];
            readonly in_force: components["schemas"]["GraceCost"];
            /** @description as in tovik.toml */
            readonly key: string;
            /** @description returns that it takes */
            readonly needed: number;
            /** @description with one second more */
            readonly next?: components["schemas"]["GraceCost"];
            readonly returns: number;
        };
        /** @description GraceCost is what a grace costs. */
        readonly GraceCost: {
            /** @description of 1,000 returns: leaves followed by a return within a minute */
            readonly flickers: number;
            /** @description time for which people were still listed who were not back a minute later either */
            readonly ghosts: number;
            readonly grace: number;
        };
        /** @description Headcount is how many were in a room, or in the realm, during a step of time. */
        readonly Headcount: {
            /**
             * Format: date-time
             * @description when the step begins
             */
            readonly at: string;
            /** @description different people */
            readonly distinct: number;
            readonly joins: number;
            readonly leaves: number;
            /** @description milliseconds of the step during which the service ran */
            readonly measured: number;
            /**
             * Format: date-time
             * @description when the most people were there, for the first time
             */
            readonly peak_at: string;
            readonly people: components["schemas"]["Spread"];
            readonly sessions: components["schemas"]["Spread"];
        };
        /**
         * @description Headcounts are steps of the same length, in order. Steps in which the service did not run, or
         *     nobody was there, are left out.
         */
        readonly Headcounts: {
            /**
             * Format: date-time
             * @description the from of the next answer, if one was not enough
             */
            readonly next?: string;
            /** @description absent: the whole realm */
            readonly room?: string;
            /** @enum {string} */
            readonly step: "minute" | "hour" | "day";
            readonly steps: readonly components["schemas"]["Headcount"][];
        };
        /** @description Health says that the process is running. */
        readonly Health: {
            /** @enum {string} */
            readonly status: "ok";
        };
        /**
         * @description Hello is the first frame of a link. It has either a Token, a person's, which opens or resumes a
         *     session, or a Key, an operator's, which may only watch.
         */
        readonly Hello: {
            /** @description of following the rooms: members (if empty), count, none */
            readonly detail?: string;
            /** @description Device is the kind of the session's device: desktop, phone, tablet or device. */
            readonly device?: string;
            /** @description any JSON */
            readonly id?: unknown;
            /** @description milliseconds since the last activity */
            readonly idle_for?: number;
            readonly key?: string;
            /** @description Limit gives the first members by id of each room only; 0: all. */
            readonly limit?: number;
            /** @description NoInput says that the session has no human input. The token must grant it. */
            readonly no_input?: boolean;
            readonly nonce?: string;
            /**
             * @description OneByOne asks for each room and watch separately: the answer lists the refused ones in
             *     dropped. Without it, one refused room or watch refuses the hello.
             */
            readonly one_by_one?: boolean;
            readonly page_hidden?: boolean;
            readonly resume?: components["schemas"]["Resume"];
            /** @description Revs are the revisions of rooms that the client has from an earlier link. */
            readonly revs?: {
                readonly [key: string]: string;
            };
            readonly rooms: readonly string[];
            readonly token?: string;
            readonly type: string;
            readonly version: number;
            readonly watch?: readonly components["schemas"]["Watch"][];
            /** @description WatchOnly asks for a link without a session: the person is not present. */
            readonly watch_only?: boolean;
            /** @description Without lists what the rooms are followed without: doing. */
            readonly without?: readonly string[];
        };
        /** @description Hook is a subscription: which events are sent to an address. */
        readonly Hook: {
            readonly above?: number;
            readonly below?: number;
            /**
             * Format: date-time
             * @description Created is when the hook was made. Secret is present only in the answers that make or rotate it.
             */
            readonly created: string;
            /** @description by state */
            readonly deliveries?: {
                readonly [key: string]: number;
            };
            readonly id: string;
            readonly kinds: readonly string[];
            readonly name?: string;
            /**
             * Format: date-time
             * @description OldSecretUntil is until when requests are also signed with the previous secret.
             */
            readonly old_secret_until?: string;
            readonly paused: boolean;
            /** @description patterns; absent: all rooms, and events about people */
            readonly rooms?: readonly string[];
            readonly secret?: string;
            readonly url: string;
            /**
             * @description full, or open: without hidden people
             * @enum {string}
             */
            readonly view: "full" | "open";
        };
        /** @description Hooks is a list of hooks, oldest first. */
        readonly Hooks: {
            readonly hooks: readonly components["schemas"]["Hook"][];
        };
        /** @description Imported reports how many lines of an import were accepted, and why others were not. */
        readonly Imported: {
            readonly refused: readonly components["schemas"]["RefusedLine"][];
            readonly taken: number;
        };
        /** @description Invitation is an invitation that waits for an answer. */
        readonly Invitation: {
            readonly from: components["schemas"]["Party"];
            /** @description its id */
            readonly invitation: string;
            readonly room: string;
            /** Format: date-time */
            readonly since: string;
            readonly to: components["schemas"]["Party"];
            /**
             * Format: date-time
             * @description when it expires without an answer
             */
            readonly until: string;
        };
        /** @description InvitationList are open invitations, the oldest first. */
        readonly InvitationList: {
            readonly invitations: readonly components["schemas"]["Invitation"][];
        };
        /** @description Invitations are the open invitations of a person, the oldest first. */
        readonly Invitations: {
            readonly received: readonly components["schemas"]["Invitation"][];
            readonly sent: readonly components["schemas"]["Invitation"][];
        };
        /**
         * @description Journal is a page of entries by id. Older is the before of the page of older entries, and Newer
         *     the after of the page of newer ones; each is absent if there is no such page.
         *
         *     With by=cause the entries are in Lines, and Entries is empty.
         */
        readonly Journal: {
            readonly entries: readonly components["schemas"]["Record"][];
            readonly lines?: readonly components["schemas"]["JournalLine"][];
            readonly newer?: number;
            readonly older?: number;
        };
        /** @description JournalLine is entries that have one cause, in words. */
        readonly JournalLine: {
            /**
             * Format: date-time
             * @description of the newest entry
             */
            readonly at: string;
            readonly entries: readonly components["schemas"]["Record"][];
            /** @description of the first entry */
            readonly id: number;
            /** @description of the person, from the directory */
            readonly name?: string;
            /** @description of the first entry that names one */
            readonly room?: string;
            /** @description the rest of a sentence about the person; without one, a sentence */
            readonly text: string;
            readonly user?: string;
            /** @description a session is without a link; the line goes on when it returns or ends */
            readonly waiting?: boolean;
        };
        /**
         * @description Key describes a key of an operator or back end. The field Key, the key itself, is present only in
         *     the answer that makes it.
         */
        readonly Key: {
            /** Format: date-time */
            readonly created: string;
            /** Format: date-time */
            readonly expires?: string;
            readonly id: string;
            readonly key?: string;
            /** Format: date-time */
            readonly last_used?: string;
            readonly name?: string;
            readonly realm: string;
            /** Format: date-time */
            readonly revoked?: string;
            /** @enum {string} */
            readonly role: "read" | "write" | "operate";
            readonly rooms?: readonly string[];
        };
        /** @description Keys is a list of keys, newest first. */
        readonly Keys: {
            readonly keys: readonly components["schemas"]["Key"][];
        };
        /** @description Lease is the answer to a beat over HTTP. */
        readonly Lease: {
            /** @description Asked are the rooms that the session asks to be let into. */
            readonly asked?: readonly components["schemas"]["Ask"][];
            /** @description of its rooms, those whose count has changed */
            readonly counts: readonly components["schemas"]["Tallied"][];
            /** @description rooms that the session may no longer be in */
            readonly dropped?: readonly components["schemas"]["Drop"][];
            /** @description Invitations are the open invitations of the person, if there are any. */
            readonly invitations?: components["schemas"]["Invitations"];
            /** @description milliseconds within which the next beat must come */
            readonly lease: number;
            /** @enum {string} */
            readonly not_resumed?: "unknown" | "in-use";
            readonly resume_key: string;
            readonly resumed: boolean;
            readonly rooms: readonly string[];
            readonly session: string;
            readonly user: string;
        };
        /** @description Lengths are durations. */
        readonly Lengths: {
            /** @description those with at least one duration beyond them */
            readonly quantiles: readonly components["schemas"]["Quantile"][];
            /** @description how many */
            readonly times: number;
        };
        /** @description LogState is the state of the log that all nodes follow. */
        readonly LogState: {
            readonly bytes: number;
            /** @description nodes that keep it */
            readonly copies: number;
            /** @description how many of them have all of it */
            readonly current: number;
            /** @description the number of the oldest record that it keeps */
            readonly first: number;
            readonly last: number;
            /** @description bytes that it keeps at most */
            readonly most: number;
        };
        /** @description LossPart is a part of the losses of a cause. */
        readonly LossPart: {
            /** @enum {string} */
            readonly by: "room" | "link" | "hour";
            /** @description of those that returned */
            readonly gaps: components["schemas"]["Lengths"];
            /** @description the session returned within its grace */
            readonly in_time: number;
            /** @description its client returned too late, within 10 minutes */
            readonly late: number;
            /** @description a pattern of the policy, a kind of link, or an hour of the day (UTC) */
            readonly name: string;
            /** @description it did not return within 10 minutes */
            readonly never: number;
        };
        /** @description Losses are times without a link, of one cause. */
        readonly Losses: {
            /** @enum {string} */
            readonly cause: "closing" | "lost" | "background" | "silent" | "restarted";
            /** @description of those that returned */
            readonly gaps: components["schemas"]["Lengths"];
            /** @description the session returned within its grace */
            readonly in_time: number;
            /** @description its client returned too late, within 10 minutes */
            readonly late: number;
            /** @description it did not return within 10 minutes */
            readonly never: number;
            readonly parts: readonly components["schemas"]["LossPart"][];
        };
        /** @description Member is a person in a room. */
        readonly Member: {
            /** @description Devices are the kinds of devices of these sessions, as far as they say. */
            readonly devices?: readonly ("desktop" | "phone" | "tablet" | "device")[];
            /** @description Doing is what they are doing in this room: a JSON object; absent: nothing. */
            readonly doing?: Record<string, never>;
            /** @description busy because of a room that engages */
            readonly engaged?: boolean;
            /** @description the application's own word for a set status */
            readonly label?: string;
            readonly name?: string;
            /** @description that the person has set */
            readonly note?: string;
            readonly picture?: string;
            /** @description of the person in this room */
            readonly sessions: number;
            /** Format: date-time */
            readonly since: string;
            /** @enum {string} */
            readonly status: "online" | "away" | "busy";
            /**
             * Format: date-time
             * @description when a set status ends
             */
            readonly until?: string;
            readonly user: string;
        };
        /** @description Members is a room with its members, by user id. */
        readonly Members: {
            readonly count: components["schemas"]["Count"];
            readonly members: readonly components["schemas"]["Member"][];
            /** @description Next is the after of the next page; absent on the last page. */
            readonly next?: string;
            readonly rev: string;
            readonly room: string;
        };
        /** @description NewCue is a cue of the back end. */
        readonly NewCue: {
            /** @description any JSON, at most 4 KB */
            readonly data?: unknown;
            /** @description 1 to 64 bytes */
            readonly name: string;
        };
        /** @description NewHook describes a hook to make, or what to change a hook to. */
        readonly NewHook: {
            readonly above?: number;
            readonly below?: number;
            readonly kinds: readonly string[];
            readonly name?: string;
            readonly paused?: boolean;
            readonly rooms?: readonly string[];
            readonly url: string;
            /**
             * @description full if absent
             * @enum {string}
             */
            readonly view?: "full" | "open";
        };
        /** @description NewInvitation is an invitation that the back end makes on behalf of a person. */
        readonly NewInvitation: {
            /** @description the user who invites */
            readonly from: string;
            readonly room: string;
            /** @description the user who is invited */
            readonly to: string;
        };
        /** @description NewKey describes a key to make. */
        readonly NewKey: {
            /** Format: date-time */
            readonly expires?: string;
            readonly name?: string;
            /** @description absent: the realm of the asking key; only the service's own key may name another */
            readonly realm?: string;
            /** @enum {string} */
            readonly role: "read" | "write" | "operate";
            /** @description patterns; absent: all rooms */
            readonly rooms?: readonly string[];
        };
        /** @description NewRealm is a new realm with its first operator key. */
        readonly NewRealm: {
            readonly first_key: components["schemas"]["Key"];
            readonly name: string;
            /** @description of pages that may be clients; absent: any origin */
            readonly origins?: readonly string[];
        };
        /**
         * @description NewTokenKey describes a key to verify tokens with: a secret for HS256, or a public key in PEM for
         *     EdDSA, ES256 and RS256.
         */
        readonly NewTokenKey: {
            readonly algorithm: string;
            readonly audience?: string;
            /** Format: date-time */
            readonly expires?: string;
            readonly id: string;
            readonly issuer?: string;
            readonly key: string;
        };
        /** @description Node is a node of a cluster. */
        readonly Node: {
            /** @description Because says why it is not ready, or what is known of it if it is away. */
            readonly because?: string;
            /** @description records of the log after that */
            readonly behind: number;
            /** @description milliseconds by which its clock is ahead of that of the asked node */
            readonly clock: number;
            readonly keeps_log: boolean;
            /** @description of the broker: log, table */
            readonly leads?: readonly string[];
            /** @description that it carries */
            readonly links: number;
            readonly node: string;
            /** @description realms */
            readonly owns: readonly string[];
            /** @description the last record of the log that it has applied */
            readonly read: number;
            /**
             * Format: date-time
             * @description its start
             */
            readonly since?: string;
            /** @enum {string} */
            readonly state: "ready" | "not-ready" | "leaving" | "away";
            /** @description other nodes that it does not hear */
            readonly unheard?: readonly string[];
            readonly version?: string;
        };
        /** @description Nodes are the nodes of a cluster and what they own, as the asked node knows it. */
        readonly Nodes: {
            /** @description the node that answers */
            readonly asked: string;
            /** @description of owners, newest first, since the asked node started; at most 50 */
            readonly changes: readonly components["schemas"]["OwnerChange"][];
            readonly cluster: string;
            readonly log: components["schemas"]["LogState"];
            readonly nodes: readonly components["schemas"]["Node"][];
            readonly realms: readonly components["schemas"]["RealmOwner"][];
        };
        /** @description OwnerChange says that a node has begun to own a realm. */
        readonly OwnerChange: {
            readonly epoch: number;
            /** @description Handed says that the owner before handed the realm over. */
            readonly handed: boolean;
            readonly owner: string;
            readonly realm: string;
            /**
             * Format: date-time
             * @description by the clock of the new owner
             */
            readonly time: string;
        };
        /** @description Party is a person who invites or is invited. */
        readonly Party: {
            readonly name?: string;
            readonly picture?: string;
            readonly user: string;
        };
        /** @description Pass admits a person to a room that asks. */
        readonly Pass: {
            readonly room: string;
            /** Format: date-time */
            readonly until: string;
        };
        /** @description PassWanted is a pass to give. Without Until it lasts as long as the room's policy says. */
        readonly PassWanted: {
            /** Format: date-time */
            readonly until?: string;
        };
        /** @description Passes are the passes of a person, by room. */
        readonly Passes: {
            readonly passes: readonly components["schemas"]["Pass"][];
            readonly user: string;
        };
        /**
         * @description People is a page of the directory, by user id. Next is the after of the next page; absent on
         *     the last page.
         */
        readonly People: {
            readonly next?: string;
            readonly people: readonly components["schemas"]["Person"][];
        };
        /** @description Person is an entry of the directory, with the person's present status. */
        readonly Person: {
            readonly attributes?: {
                readonly [key: string]: string;
            };
            /** Format: date-time */
            readonly first_seen?: string;
            readonly hidden?: boolean;
            /**
             * Format: date-time
             * @description of an offline person
             */
            readonly last_seen?: string;
            readonly name?: string;
            readonly note?: string;
            readonly picture?: string;
            /** @description the rooms that they are in now */
            readonly rooms?: readonly string[];
            /** @description Set is the status that the person has set, even while they are offline. */
            readonly set?: string;
            /** @enum {string} */
            readonly status: "online" | "away" | "busy" | "offline";
            /** Format: date-time */
            readonly until?: string;
            readonly user: string;
        };
        /** @description PersonRoom is a room that a person is in. */
        readonly PersonRoom: {
            /** @description how many are in the room */
            readonly people: number;
            readonly room: string;
            /** @description of the person in this room */
            readonly sessions: number;
            /**
             * Format: date-time
             * @description when they joined
             */
            readonly since: string;
            readonly typing: boolean;
        };
        /** @description PersonRooms lists the rooms that a person is in, by name. */
        readonly PersonRooms: {
            readonly rooms: readonly components["schemas"]["PersonRoom"][];
            readonly user: string;
        };
        /** @description PersonStatus is the status of a person. */
        readonly PersonStatus: {
            /** @description busy because of a room that engages */
            readonly engaged?: boolean;
            /** @description the application's own word for a set status */
            readonly label?: string;
            /** Format: date-time */
            readonly last_seen?: string;
            readonly note?: string;
            /** @enum {string} */
            readonly status: "online" | "away" | "busy" | "offline";
            /** Format: date-time */
            readonly until?: string;
            readonly user: string;
        };
        /** @description Player is a person to play, with a token that is valid for an hour. */
        readonly Player: {
            readonly name: string;
            readonly token: string;
            readonly user: string;
        };
        /** @description Policies are the policies of the realm and of each pattern. */
        readonly Policies: {
            readonly policies: readonly components["schemas"]["Policy"][];
        };
        /** @description Policy is the policy of a room. Times are in milliseconds. */
        readonly Policy: {
            readonly ask_again: number;
            readonly ask_pass: number;
            readonly ask_waits: number;
            /** @description What follows concerns sessions, and is the same in all rooms. */
            readonly beat_every: number;
            /** @description absent: any number */
            readonly capacity?: number;
            readonly count_every: number;
            readonly doing_bytes: number;
            readonly doing_every: number;
            /** @description its members are shown busy */
            readonly engages?: boolean;
            readonly engages_several?: boolean;
            /**
             * @description how people enter the room
             * @enum {string}
             */
            readonly entry: "open" | "ask";
            readonly grace_background: number;
            readonly grace_closing: number;
            readonly grace_lost: number;
            readonly idle_after: number;
            /** @enum {string} */
            readonly invitation_busy: "refuse" | "allow";
            /**
             * @description InvitationWaits is how long an invitation waits; InvitationBusy says whether people can be
             *     invited who have set busy; InvitationsMax limits the open ones of a person.
             */
            readonly invitation_waits: number;
            readonly invitations_max: number;
            readonly lease: number;
            /** @description how long at most a person stays listed whose link died silently */
            readonly longest_ghost: number;
            readonly members_max: number;
            /** @description the pattern that decides; absent: the policy of the realm */
            readonly pattern?: string;
            readonly room?: string;
            /** @description a second session of a person: allow, replace, refuse */
            readonly second_session: string;
            readonly silence: number;
            /** @description Statuses are the application's own words for statuses, by status. */
            readonly statuses?: {
                readonly [key: string]: readonly string[];
            };
            readonly typing_expires: number;
            /** @enum {string} */
            readonly watch_count: "admitted" | "anyone";
            readonly words: readonly string[];
        };
        /** @description Practice is a room to practise in, with the people to play there. */
        readonly Practice: {
            /** @description a room that engages */
            readonly call: string;
            /** @description a room that asks; the first of the people may admit there */
            readonly gate: string;
            readonly people: readonly components["schemas"]["Player"][];
            readonly room: string;
        };
        /** @description Profile is what a back end puts into the directory about a person. */
        readonly Profile: {
            readonly attributes?: {
                readonly [key: string]: string;
            };
            readonly name?: string;
            readonly picture?: string;
            /** @description only in lists */
            readonly user?: string;
        };
        /**
         * @description Quantile is the duration that a share of all durations does not exceed, with the bounds
         *     between which it is expected in 95 of 100 cases (a bootstrap).
         */
        readonly Quantile: {
            readonly high: number;
            readonly low: number;
            readonly share: number;
            readonly value: number;
        };
        /** @description Readiness says whether the service is ready, and the state of the records. */
        readonly Readiness: {
            readonly records: components["schemas"]["RecordsHealth"];
            /** @enum {string} */
            readonly status: "ready";
        };
        /** @description Realm is an isolated world of people and rooms. */
        readonly Realm: {
            readonly name: string;
            /** @description of pages that may be clients; absent: any origin */
            readonly origins?: readonly string[];
        };
        /** @description RealmHealth is the state of a realm in numbers. */
        readonly RealmHealth: {
            /** @description of sessions */
            readonly links: number;
            /** @description deliveries to hooks */
            readonly parked: number;
            /** @description with a session */
            readonly people: number;
            readonly realm: string;
            readonly sessions: number;
            /** @description deliveries to hooks */
            readonly waiting: number;
        };
        /** @description RealmOwner says which node owns a realm. */
        readonly RealmOwner: {
            /** @description Answers says whether the owner answers for the realm now. */
            readonly answers: boolean;
            readonly epoch: number;
            /** @description empty: none has begun yet */
            readonly owner?: string;
            readonly realm: string;
        };
        /** @description Realms is a list of realms, by name. */
        readonly Realms: {
            readonly realms: readonly components["schemas"]["Realm"][];
        };
        /** @description Record is an entry of the journal. Ids increase in the order of events. */
        readonly Record: {
            /** Format: date-time */
            readonly at: string;
            /** @description the id of the operator key with which it was done */
            readonly by?: string;
            /** @description not visible in the open view */
            readonly hidden?: boolean;
            readonly id: number;
            readonly kind: string;
            /** @description milliseconds: how long a session, a stay, a time without a link or without activity lasted */
            readonly length?: number;
            readonly link?: number;
            /** @description of a journal.gap: how many entries are missing */
            readonly lost?: number;
            readonly note?: string;
            /** @description who answered an ask, or was invited */
            readonly other?: string;
            /** @enum {string} */
            readonly over?: "websocket" | "stream" | "beats";
            /** @description PageHidden says that the page was in the background. */
            readonly page_hidden?: boolean;
            /**
             * @description Reason of an ask or an invitation is its outcome; of a session.opened, why it did not resume
             *     the session that it wanted.
             */
            readonly reason?: string;
            readonly room?: string;
            readonly session?: string;
            readonly status?: string;
            /** @description milliseconds since the session was last heard of */
            readonly unheard?: number;
            readonly user?: string;
            /** @description the session that the client of a new one wanted to resume */
            readonly wanted?: string;
            /** @description the status before */
            readonly was?: string;
        };
        /** @description RecordsHealth is the state of the records. */
        readonly RecordsHealth: {
            /** @description why nothing can be written */
            readonly error?: string;
            /** @description milliseconds for which the oldest of them has waited */
            readonly lag: number;
            /** @description journal entries lost since the start */
            readonly lost: number;
            readonly lost_deliveries: number;
            /** Format: date-time */
            readonly since?: string;
            /** @enum {string} */
            readonly status: "ok" | "failing";
            /** @description entries and people waiting to be written */
            readonly waiting: number;
        };
        /** @description RefusedLine is a line that was not accepted. Lines count from 1. */
        readonly RefusedLine: {
            /** @description what is allowed */
            readonly allowed?: string;
            readonly code: string;
            /** @description what is wrong, in words */
            readonly detail: string;
            /** @description which field is wrong */
            readonly field?: string;
            readonly line: number;
            /** @description its value, shortened */
            readonly value?: string;
        };
        /**
         * @description Reloaded lists which parts of the configuration a reload has changed: policies, keep, the
         *     origins of a realm, the certificate.
         */
        readonly Reloaded: {
            readonly changed: readonly string[];
        };
        /**
         * @description Removal says that tokens of a person issued up to At are refused: in a room or, without Room, in
         *     the realm.
         */
        readonly Removal: {
            /** Format: date-time */
            readonly at: string;
            readonly room?: string;
            readonly user: string;
        };
        /** @description Replayed is what others saw in a replay. */
        readonly Replayed: {
            /** @description time for which people were shown away */
            readonly away: number;
            /**
             * @description CountError is by how many people headcounts were wrong on average: ghosts, and people
             *     missing in a flicker.
             */
            readonly count_error: number;
            /** @description of those, followed by a return within a minute */
            readonly flickers: number;
            /** @description time for which people were listed who had gone, and were not back within a minute */
            readonly ghosts: number;
            readonly leaves: number;
            /** @description leaves because somebody did not return in time */
            readonly losses: number;
            /** @description time for which people were not listed in a flicker */
            readonly missing: number;
        };
        /** @description Resume names the session to resume, with its resume key. */
        readonly Resume: {
            readonly resume_key: string;
            readonly session: string;
        };
        /** @description Room is a room with its count. */
        readonly Room: {
            readonly away: components["schemas"]["Tally"];
            readonly busy: components["schemas"]["Tally"];
            /** @description of them, by the status of the person */
            readonly online: components["schemas"]["Tally"];
            readonly people: number;
            readonly room: string;
            readonly sessions: number;
        };
        /** @description Rooms is a page of rooms. Next is the after of the next page; absent on the last page. */
        readonly Rooms: {
            readonly next?: string;
            readonly rooms: readonly components["schemas"]["Room"][];
            /** @description how many rooms match, on all pages */
            readonly total: number;
        };
        /** @description RuleTried is a rule that may decide a status: a code of [Rules]. */
        readonly RuleTried: {
            /** @description whether it is the first that holds */
            readonly decides: boolean;
            /** @description whether its condition holds */
            readonly holds: boolean;
            readonly rule: string;
            /** @description the status that it leads to, or both: busy or away */
            readonly status: string;
        };
        /** @description ServiceHealth is the state of the service, as the holder of a key sees it. */
        readonly ServiceHealth: {
            readonly links_before_hello: number;
            /** @description Node is the name of the node that answers, of a cluster. */
            readonly node?: string;
            /** @description absent for a key limited to some rooms */
            readonly realm?: components["schemas"]["RealmHealth"];
            readonly records: components["schemas"]["RecordsHealth"];
        };
        /** @description Session is what the service knows about a session. */
        readonly Session: {
            /** @enum {string} */
            readonly device?: "desktop" | "phone" | "tablet" | "device";
            readonly idle: boolean;
            /** Format: date-time */
            readonly last_activity: string;
            /** Format: date-time */
            readonly last_heard: string;
            /** @description the number of its link; in grace, of its last link */
            readonly link: number;
            /**
             * Format: date-time
             * @description LostAt is when its grace began.
             */
            readonly lost_at?: string;
            /** @description Next is what will happen to it if nothing more is heard, in order. */
            readonly next: readonly components["schemas"]["Upcoming"][];
            /** @description without human input */
            readonly no_input?: boolean;
            /** Format: date-time */
            readonly opened: string;
            /**
             * @description the kind of its link
             * @enum {string}
             */
            readonly over: "websocket" | "stream" | "beats";
            readonly page_hidden: boolean;
            /** @description in grace: the reason that it will end with */
            readonly reason?: string;
            readonly rooms: readonly string[];
            readonly session: string;
            /** @enum {string} */
            readonly state: "live" | "grace" | "ended";
            readonly user: string;
        };
        /**
         * @description Sessions is a page of sessions, by user id. Next is the after of the next page; absent on the
         *     last page.
         */
        readonly Sessions: {
            readonly next?: string;
            readonly sessions: readonly components["schemas"]["Session"][];
        };
        /** @description SignIn says which key a browser has signed in with at the console; empty if it has not. */
        readonly SignIn: {
            /** @description the id of the operator's key */
            readonly key: string;
            /** @description Practice tells whether the service offers the page Practice. */
            readonly practice?: boolean;
            readonly realm: string;
            readonly role: string;
            /** @description patterns of the rooms that the key covers; absent: all */
            readonly rooms?: readonly string[];
        };
        /** @description SigningIn is the key with which a browser signs in to the console. */
        readonly SigningIn: {
            /** @description an operator's */
            readonly key: string;
        };
        /** @description Spread is the smallest, largest and mean value over time. */
        readonly Spread: {
            readonly max: number;
            readonly mean: number;
            readonly min: number;
        };
        /** @description StatusWanted is the status to set for a person. */
        readonly StatusWanted: {
            /** @description one of the policy's words for the status */
            readonly label?: string;
            readonly note?: string;
            /**
             * @description absent: a note alone
             * @enum {string}
             */
            readonly status?: "busy" | "away";
            /** Format: date-time */
            readonly until?: string;
        };
        /** @description Statuses are the statuses of people, in the order of the request. */
        readonly Statuses: {
            readonly statuses: readonly components["schemas"]["PersonStatus"][];
        };
        /** @description StatusesAsked names people. */
        readonly StatusesAsked: {
            readonly users: readonly string[];
        };
        /** @description Stay is one person's stay. Left is absent while it lasts. */
        readonly Stay: {
            /** Format: date-time */
            readonly joined: string;
            /** Format: date-time */
            readonly left?: string;
            readonly name?: string;
            readonly user: string;
        };
        /** @description Tallied is the count of a room at a revision. */
        readonly Tallied: {
            readonly away: components["schemas"]["Tally"];
            readonly busy: components["schemas"]["Tally"];
            /** @description of them, by the status of the person */
            readonly online: components["schemas"]["Tally"];
            readonly people: number;
            readonly rev: string;
            readonly room: string;
            readonly sessions: number;
        };
        /** @description Tally is a part of a count. */
        readonly Tally: {
            readonly people: number;
            readonly sessions: number;
        };
        /** @description Ticket opens one event stream at the address Feed, within 30 seconds. */
        readonly Ticket: {
            /** Format: date-time */
            readonly expires: string;
            readonly feed: string;
            readonly ticket: string;
        };
        /**
         * @description Timing is what a recorded stretch of time says about the timings of the policy: what happened,
         *     what others would have seen under another policy, and advice. Times are in milliseconds.
         */
        readonly Timing: {
            /** @description by key */
            readonly advice: readonly components["schemas"]["GraceAdvice"][];
            /** @description the lines of tovik.toml that follow the advice */
            readonly config?: string;
            readonly entries: number;
            readonly exceptions: components["schemas"]["TimingExceptions"];
            /** Format: date-time */
            readonly from: string;
            /** @description Idle are the times without activity of sessions that had become idle and were active again. */
            readonly idle: components["schemas"]["Lengths"];
            /** @description InForce is the replay under the policy in force, and Tried under another one. */
            readonly in_force: components["schemas"]["Replayed"];
            /**
             * @description Leaves are on record. Those that a replay under the policy in force does not have, or has
             *     besides, are the exceptions.
             */
            readonly leaves: number;
            /** @description by cause */
            readonly losses: readonly components["schemas"]["Losses"][];
            /** @description Missing are entries that the journal lost. */
            readonly missing: number;
            readonly people: number;
            /** @description the pattern of the rooms studied; absent: all */
            readonly room?: string;
            readonly sessions: number;
            /** Format: date-time */
            readonly to: string;
            readonly took: number;
            readonly tried?: components["schemas"]["Replayed"];
            /** @description as asked for: grace.lost=20s */
            readonly tries?: readonly string[];
            readonly typing: components["schemas"]["TypingTimes"];
            /** @description what the journal cannot know, in sentences */
            readonly unknown: readonly string[];
        };
        /** @description TimingExceptions are leaves that are only on record, or only in the replay, with the first few. */
        readonly TimingExceptions: {
            readonly first: readonly components["schemas"]["TimingLeave"][];
            readonly recorded: number;
            readonly replayed: number;
        };
        /** @description TimingLeave is a leave. */
        readonly TimingLeave: {
            /** Format: date-time */
            readonly at: string;
            /** @enum {string} */
            readonly only: "recorded" | "replayed";
            readonly room: string;
            readonly user: string;
        };
        /** @description TokenKey describes a key that verifies tokens. The key itself is never returned. */
        readonly TokenKey: {
            readonly algorithm: string;
            readonly audience?: string;
            /** @description Configured tells that the key is in tovik.toml rather than on record. */
            readonly configured?: boolean;
            /**
             * Format: date-time
             * @description absent for a key in the configuration
             */
            readonly created?: string;
            /** Format: date-time */
            readonly expires?: string;
            /** @description the kid of tokens */
            readonly id: string;
            readonly issuer?: string;
            readonly realm: string;
            /** Format: date-time */
            readonly revoked?: string;
        };
        /** @description TokenKeys is a list of token keys, oldest first. */
        readonly TokenKeys: {
            readonly keys: readonly components["schemas"]["TokenKey"][];
        };
        /** @description TypingTimes are how long people typed. */
        readonly TypingTimes: {
            /** @description how often typing ended because no report came any more */
            readonly expired: number;
            /** @description those with at least one duration beyond them */
            readonly quantiles: readonly components["schemas"]["Quantile"][];
            /** @description how many */
            readonly times: number;
        };
        /** @description Upcoming is something that will happen to a session at a time: a code of [Acts]. */
        readonly Upcoming: {
            readonly act: string;
            /** Format: date-time */
            readonly at: string;
            readonly room?: string;
        };
        /**
         * @description Watch asks to follow rooms or people: either Room, a name or pattern, or People, user ids,
         *     is set.
         */
        readonly Watch: {
            /** @description members when empty */
            readonly detail?: string;
            /** @description the first members by id only; 0: all */
            readonly limit?: number;
            readonly people?: readonly string[];
            readonly room?: string;
            /** @description Without lists what the room is followed without: doing. */
            readonly without?: readonly string[];
        };
    };
    responses: never;
    parameters: never;
    requestBodies: never;
    headers: never;
    pathItems: never;
}
