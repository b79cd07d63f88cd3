// Made from wire/asyncapi.yaml by web/types/make.mjs (make types); do not edit.

export interface components {
    schemas: {
        /** @description Repeated by the answer as re. */
        readonly id: string | number;
        readonly room: string;
        /** @description A room name in which a word may be * and the last may be **. */
        readonly pattern: string;
        readonly user: string;
        readonly users: readonly components["schemas"]["user"][];
        /** @description Opaque. Empty if nobody is in the room. */
        readonly rev: string;
        readonly revs: {
            readonly [key: string]: components["schemas"]["rev"];
        };
        /** Format: date-time */
        readonly time: string;
        readonly milliseconds: number;
        /** @enum {unknown} */
        readonly detail: "members" | "count";
        /** @enum {unknown} */
        readonly shownStatus: "online" | "away" | "busy";
        /** @description What rooms are followed without. */
        readonly without: readonly "doing"[];
        /** @description Of following rooms: the first members by id only, whole after each change, with the count of all. */
        readonly limit: number;
        /** @enum {unknown} */
        readonly device: "desktop" | "phone" | "tablet" | "device";
        readonly object: {
            readonly [key: string]: unknown;
        };
        readonly hello: {
            /** @constant */
            readonly type: "hello";
            readonly id?: components["schemas"]["id"];
            /** @constant */
            readonly version: 1;
            /** @description A person's. */
            readonly token?: string;
            /** @description An operator's, instead. */
            readonly key?: string;
            readonly nonce?: string;
            readonly resume?: {
                readonly session: string;
                readonly resume_key: string;
            };
            readonly rooms?: readonly components["schemas"]["room"][];
            /** @description Ask for each room and watch separately: the answer lists the refused ones in dropped. Otherwise one refused room or watch refuses the hello. */
            readonly one_by_one?: boolean;
            /** @enum {unknown} */
            readonly detail?: "members" | "count" | "none";
            readonly without?: components["schemas"]["without"];
            readonly limit?: components["schemas"]["limit"];
            readonly device?: components["schemas"]["device"];
            readonly watch?: readonly {
                readonly room?: components["schemas"]["pattern"];
                readonly detail?: components["schemas"]["detail"];
                readonly people?: components["schemas"]["users"];
                readonly without?: components["schemas"]["without"];
                readonly limit?: components["schemas"]["limit"];
            }[];
            readonly page_hidden?: boolean;
            readonly idle_for?: components["schemas"]["milliseconds"];
            readonly watch_only?: boolean;
            /** @description The session has no human input. */
            readonly no_input?: boolean;
            readonly revs?: components["schemas"]["revs"];
        };
        readonly join: {
            /** @constant */
            readonly type: "join";
            readonly id?: components["schemas"]["id"];
            readonly room: components["schemas"]["room"];
            /** @enum {unknown} */
            readonly detail?: "members" | "count" | "none";
            readonly without?: components["schemas"]["without"];
            readonly limit?: components["schemas"]["limit"];
        };
        readonly leave: {
            /** @constant */
            readonly type: "leave";
            readonly id?: components["schemas"]["id"];
            readonly room: components["schemas"]["room"];
        };
        readonly watch: {
            /** @constant */
            readonly type: "watch";
            readonly id?: components["schemas"]["id"];
            readonly room?: components["schemas"]["pattern"];
            readonly detail?: components["schemas"]["detail"];
            readonly people?: components["schemas"]["users"];
            readonly without?: components["schemas"]["without"];
            readonly limit?: components["schemas"]["limit"];
        } & (unknown | unknown);
        readonly unwatch: {
            /** @constant */
            readonly type: "unwatch";
            readonly id?: components["schemas"]["id"];
            readonly room?: components["schemas"]["pattern"];
            readonly people?: components["schemas"]["users"];
        } & (unknown | unknown);
        readonly members: {
            /** @constant */
            readonly type: "members";
            readonly id?: components["schemas"]["id"];
            readonly room: components["schemas"]["room"];
            readonly rev?: components["schemas"]["rev"];
            readonly after?: string;
            readonly limit?: number;
        };
        readonly activity: {
            /** @constant */
            readonly type: "activity";
            readonly id?: components["schemas"]["id"];
            /** @description How long ago it was. */
            readonly idle_for?: components["schemas"]["milliseconds"];
        };
        readonly idle: {
            /** @constant */
            readonly type: "idle";
            readonly id?: components["schemas"]["id"];
        };
        readonly report: {
            /** @constant */
            readonly type: "typing";
            readonly id?: components["schemas"]["id"];
            readonly room: components["schemas"]["room"];
            /** @description True if absent. */
            readonly on?: boolean;
            readonly number?: number;
        };
        readonly sent: {
            /** @constant */
            readonly type: "sent";
            readonly id?: components["schemas"]["id"];
            readonly room: components["schemas"]["room"];
            readonly number?: number;
        };
        readonly status: {
            /** @constant */
            readonly type: "status";
            readonly id?: components["schemas"]["id"];
            /**
             * @description Empty: the sessions decide, and only the note is set.
             * @enum {unknown}
             */
            readonly status?: "busy" | "away" | "";
            /** @description One of the policy's words for the status. */
            readonly label?: string;
            readonly note?: string;
            /** Format: date-time */
            readonly until?: string;
            /** @description The status ends with this session. */
            readonly this_session?: boolean;
        };
        readonly hide: {
            /** @constant */
            readonly type: "hide";
            readonly id?: components["schemas"]["id"];
            /** @description True if absent. */
            readonly on?: boolean;
        };
        readonly signOut: {
            /** @constant */
            readonly type: "sign-out";
            readonly id?: components["schemas"]["id"];
        };
        readonly remove: {
            /** @constant */
            readonly type: "remove";
            readonly id?: components["schemas"]["id"];
            readonly room: components["schemas"]["room"];
            readonly user: components["schemas"]["user"];
        };
        readonly giveCue: {
            /** @constant */
            readonly type: "cue";
            readonly id?: components["schemas"]["id"];
            readonly name: string;
            readonly room?: components["schemas"]["room"];
            readonly user?: components["schemas"]["user"];
            readonly session?: string;
            readonly everyone?: boolean;
            /** @description Any JSON, at most 4 KB. */
            readonly data?: unknown;
        } & (unknown | unknown | unknown);
        readonly page: {
            /** @constant */
            readonly type: "page";
            readonly id?: components["schemas"]["id"];
            readonly page_hidden: boolean;
        };
        readonly renew: {
            /** @constant */
            readonly type: "renew";
            readonly id?: components["schemas"]["id"];
            readonly token: string;
        };
        readonly closing: {
            /** @constant */
            readonly type: "closing";
            readonly id?: components["schemas"]["id"];
        };
        readonly bye: {
            /** @constant */
            readonly type: "bye";
            readonly id?: components["schemas"]["id"];
        };
        readonly reportDoing: {
            /** @constant */
            readonly type: "doing";
            readonly id?: components["schemas"]["id"];
            readonly room: components["schemas"]["room"];
            /** @description At most doing.bytes of JSON; null, {} or absent: nothing. */
            readonly data?: {
                readonly [key: string]: unknown;
            } | null;
            readonly number?: number;
        };
        readonly admit: {
            /** @constant */
            readonly type: "admit";
            readonly id?: components["schemas"]["id"];
            readonly ask?: string;
            readonly room?: components["schemas"]["room"];
            /** @description Everybody who asks about the room. */
            readonly all?: boolean;
        } & (unknown | unknown);
        readonly refuse: {
            /** @constant */
            readonly type: "refuse";
            readonly id?: components["schemas"]["id"];
            readonly ask: string;
        };
        readonly invite: {
            /** @constant */
            readonly type: "invite";
            readonly id?: components["schemas"]["id"];
            readonly user: components["schemas"]["user"];
            readonly room: components["schemas"]["room"];
        };
        readonly accept: {
            /** @constant */
            readonly type: "accept";
            readonly id?: components["schemas"]["id"];
            readonly invitation: string;
            /** @enum {unknown} */
            readonly detail?: "members" | "count" | "none";
        };
        readonly decline: {
            /** @constant */
            readonly type: "decline";
            readonly id?: components["schemas"]["id"];
            readonly invitation: string;
        };
        readonly withdraw: {
            /** @constant */
            readonly type: "withdraw";
            readonly id?: components["schemas"]["id"];
            readonly invitation: string;
        };
        readonly beat: {
            /** @constant */
            readonly type: "beat";
            readonly id?: components["schemas"]["id"];
        };
        readonly timings: {
            readonly beat_every: components["schemas"]["milliseconds"];
            readonly silence: components["schemas"]["milliseconds"];
            readonly grace_closing: components["schemas"]["milliseconds"];
            readonly grace_lost: components["schemas"]["milliseconds"];
            readonly grace_background: components["schemas"]["milliseconds"];
            readonly idle_after: components["schemas"]["milliseconds"];
            readonly activity_every: components["schemas"]["milliseconds"];
            readonly longest_ghost: components["schemas"]["milliseconds"];
            readonly typing_expires: components["schemas"]["milliseconds"];
        };
        /** @description Further fields depend on the request: resumed, timings and the session for hello; a page for members; links for a cue. */
        readonly answer: {
            /** @constant */
            readonly type: "answer";
            readonly re?: components["schemas"]["id"];
            readonly session?: string;
            readonly resume_key?: string;
            readonly link?: number;
            readonly resumed?: boolean;
            /** @enum {unknown} */
            readonly not_resumed?: "unknown" | "in-use";
            readonly user?: components["schemas"]["user"];
            readonly rooms?: readonly components["schemas"]["room"][];
            /** @description What the hello asked for and does not get. */
            readonly dropped?: readonly components["schemas"]["drop"][];
            readonly revs?: {
                readonly [key: string]: "current" | "changes" | "snapshot" | "new-run";
            };
            /** @description What the person has set for all their sessions. */
            readonly own?: {
                /** @enum {unknown} */
                readonly status?: "busy" | "away";
                readonly label?: string;
                readonly note?: string;
                readonly until?: components["schemas"]["time"];
                readonly hiding: boolean;
            };
            /** @description Of a join: the session is not in the room yet, but asks to be let in. */
            readonly ask?: components["schemas"]["openAsk"];
            /** @description Of a hello: the rooms that the session asks to be let into. */
            readonly asked?: readonly components["schemas"]["openAsk"][];
            /** @description Of an accept: the room that the session is in now. */
            readonly joined?: components["schemas"]["room"];
            readonly invitations?: components["schemas"]["openInvitations"];
            /** @description Of an invite: the id of the invitation. */
            readonly invitation?: string;
            /** @description Of an admit with all: how many people were let in. */
            readonly admitted?: number;
            /** @description The same: how many still ask, because the room is full or they are engaged. */
            readonly not_admitted?: number;
            /** @description Of an event stream: the address of its requests. */
            readonly posts?: string;
            readonly timings?: components["schemas"]["timings"];
            readonly room?: components["schemas"]["room"];
            readonly rev?: components["schemas"]["rev"];
            readonly count?: components["schemas"]["count"];
            readonly members?: readonly components["schemas"]["member"][];
            readonly next?: string;
            readonly links?: number;
            /**
             * @description A newer report arrived earlier, so this one had no effect.
             * @constant
             */
            readonly stale?: true;
        };
        readonly own: {
            /** @constant */
            readonly type: "own";
            /** @enum {unknown} */
            readonly status?: "busy" | "away";
            readonly label?: string;
            readonly note?: string;
            readonly until?: components["schemas"]["time"];
            readonly hiding: boolean;
        };
        readonly openAsk: {
            readonly ask: string;
            readonly room: components["schemas"]["room"];
            readonly user: components["schemas"]["user"];
            readonly name?: string;
            readonly picture?: string;
            readonly since: components["schemas"]["time"];
            readonly until: components["schemas"]["time"];
        };
        readonly asks: {
            /** @constant */
            readonly type: "asks";
            readonly room: components["schemas"]["room"];
            /** @description The oldest first. */
            readonly asks: readonly components["schemas"]["openAsk"][];
        };
        readonly askOver: {
            /** @constant */
            readonly type: "ask";
            readonly ask: string;
            readonly room: components["schemas"]["room"];
            /** @enum {unknown} */
            readonly outcome: "admitted" | "refused" | "withdrawn" | "expired" | "gone";
            readonly by?: components["schemas"]["user"];
            readonly again?: components["schemas"]["time"];
        };
        readonly party: {
            readonly user: components["schemas"]["user"];
            readonly name?: string;
            readonly picture?: string;
        };
        readonly openInvitation: {
            readonly invitation: string;
            readonly room: components["schemas"]["room"];
            readonly from: components["schemas"]["party"];
            readonly to: components["schemas"]["party"];
            readonly since: components["schemas"]["time"];
            readonly until: components["schemas"]["time"];
        };
        readonly openInvitations: {
            /** @description The oldest first. */
            readonly received: readonly components["schemas"]["openInvitation"][];
            readonly sent: readonly components["schemas"]["openInvitation"][];
        };
        readonly invitations: {
            /** @constant */
            readonly type: "invitations";
            /** @description The oldest first. */
            readonly received: readonly components["schemas"]["openInvitation"][];
            readonly sent: readonly components["schemas"]["openInvitation"][];
        };
        readonly invitationOver: {
            /** @constant */
            readonly type: "invitation";
            /** @enum {unknown} */
            readonly outcome: "accepted" | "declined" | "withdrawn" | "expired" | "gone";
            readonly invitation: string;
            readonly room: components["schemas"]["room"];
            readonly from: components["schemas"]["party"];
            readonly to: components["schemas"]["party"];
            readonly since: components["schemas"]["time"];
            readonly until: components["schemas"]["time"];
        };
        readonly drop: {
            readonly room?: string;
            readonly user?: string;
            /**
             * @description The drop concerns a watch.
             * @constant
             */
            readonly watch?: true;
            readonly code: string;
            readonly detail: string;
            readonly field?: string;
            readonly value?: string;
            readonly allowed?: string;
            readonly help: string;
        };
        readonly dropped: {
            /** @constant */
            readonly type: "dropped";
            readonly room?: string;
            readonly user?: string;
            /** @constant */
            readonly watch?: true;
            readonly code: string;
            readonly detail: string;
            readonly field?: string;
            readonly value?: string;
            readonly allowed?: string;
            readonly help: string;
        };
        readonly error: {
            /** @constant */
            readonly type: "error";
            readonly re?: components["schemas"]["id"];
            readonly code: string;
            readonly detail: string;
            readonly field?: string;
            readonly value?: string;
            readonly allowed?: string;
            readonly help: string;
        };
        readonly tally: {
            readonly people: number;
            readonly sessions: number;
        };
        readonly count: {
            readonly people: number;
            readonly sessions: number;
            readonly online: components["schemas"]["tally"];
            readonly away: components["schemas"]["tally"];
            readonly busy: components["schemas"]["tally"];
        };
        readonly member: {
            readonly user: components["schemas"]["user"];
            readonly name?: string;
            readonly picture?: string;
            readonly status: components["schemas"]["shownStatus"];
            /** @description The application's own word for the status. */
            readonly label?: string;
            /**
             * @description Busy because of a room that engages.
             * @constant
             */
            readonly engaged?: true;
            readonly note?: string;
            readonly until?: components["schemas"]["time"];
            readonly since: components["schemas"]["time"];
            readonly sessions: number;
            readonly devices?: readonly components["schemas"]["device"][];
            readonly doing?: components["schemas"]["object"];
        };
        readonly snapshot: {
            /** @constant */
            readonly type: "snapshot";
            readonly room: components["schemas"]["room"];
            readonly rev: components["schemas"]["rev"];
            readonly count: components["schemas"]["count"];
            readonly members: readonly components["schemas"]["member"][];
            /** @description Of a large room: the after of the next page. */
            readonly next?: string;
        };
        readonly changes: {
            /** @constant */
            readonly type: "changes";
            readonly room: components["schemas"]["room"];
            readonly rev: components["schemas"]["rev"];
            readonly prev: components["schemas"]["rev"];
            readonly at: components["schemas"]["time"];
            readonly joined?: readonly components["schemas"]["member"][];
            readonly changed?: readonly components["schemas"]["member"][];
            readonly left?: readonly {
                readonly user: components["schemas"]["user"];
                /** @enum {unknown} */
                readonly status: "online" | "away" | "busy" | "offline";
                /** @enum {unknown} */
                readonly reason: "leave" | "bye" | "closing" | "lost" | "silent" | "expired" | "removed" | "replaced";
                readonly last_seen: components["schemas"]["time"];
            }[];
            /** @description Members who only changed what they are doing. */
            readonly doing?: readonly {
                readonly user: components["schemas"]["user"];
                readonly doing: {
                    readonly [key: string]: unknown;
                } | null;
            }[];
            readonly count: components["schemas"]["count"];
        };
        readonly countFrame: {
            /** @constant */
            readonly type: "count";
            readonly room: components["schemas"]["room"];
            readonly rev: components["schemas"]["rev"];
            readonly people: number;
            readonly sessions: number;
            readonly online: components["schemas"]["tally"];
            readonly away: components["schemas"]["tally"];
            readonly busy: components["schemas"]["tally"];
        };
        readonly typing: {
            /** @constant */
            readonly type: "typing";
            readonly room: components["schemas"]["room"];
            readonly users: components["schemas"]["users"];
        };
        readonly person: {
            /** @constant */
            readonly type: "person";
            readonly user: components["schemas"]["user"];
            /** @description From the directory, when the watch began. */
            readonly name?: string;
            readonly picture?: string;
            /** @enum {unknown} */
            readonly status: "online" | "away" | "busy" | "offline";
            readonly label?: string;
            /** @constant */
            readonly engaged?: true;
            readonly note?: string;
            readonly until?: components["schemas"]["time"];
            readonly last_seen?: components["schemas"]["time"];
        };
        readonly cue: {
            /** @constant */
            readonly type: "cue";
            readonly name: string;
            /** @description Absent if the back end gave the cue. */
            readonly from?: {
                readonly user: components["schemas"]["user"];
                readonly session: string;
            };
            readonly room?: components["schemas"]["room"];
            readonly at: components["schemas"]["time"];
            readonly data?: unknown;
        };
        readonly expiring: {
            /** @constant */
            readonly type: "expiring";
            readonly expires: components["schemas"]["time"];
        };
        readonly moving: {
            /** @constant */
            readonly type: "moving";
            readonly after: components["schemas"]["milliseconds"];
        };
    };
    responses: never;
    parameters: never;
    requestBodies: never;
    headers: never;
    pathItems: never;
}
