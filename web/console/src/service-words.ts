// Made from wire/words.go by: go test ./internal/server -run TestTheConsoleHasTheServicesWords -write

/** Why a link, a session or a stay is over, by the code of the reason. */
export const reasons: Readonly<Record<string, { readonly short: string; readonly left: string; readonly ended: string; readonly lost?: string }>> = {
  "bye": {
    "short": "signed off",
    "left": "signed off",
    "ended": "it signed off, or they signed out everywhere"
  },
  "closing": {
    "short": "page closed",
    "left": "closed the page and did not return in time",
    "ended": "the page was closed and did not come back within its grace, as a reload would have",
    "lost": "its page is going away (closed or reloaded; nobody can tell which yet)"
  },
  "expired": {
    "short": "token expired",
    "left": "had a token that expired",
    "ended": "its token expired and no newer one came within the grace",
    "lost": "its token expired"
  },
  "leave": {
    "short": "left the room",
    "left": "left the room",
    "ended": "they asked to leave it"
  },
  "lost": {
    "short": "link lost",
    "left": "lost the link and did not return in time",
    "ended": "its link was lost without a word and did not come back within the grace",
    "lost": "its link was lost without a word"
  },
  "removed": {
    "short": "removed",
    "left": "was removed",
    "ended": "an operator, a moderator or the back end removed them"
  },
  "replaced": {
    "short": "replaced",
    "left": "went on in another session",
    "ended": "another session of theirs took its place"
  },
  "silent": {
    "short": "no answer",
    "left": "did not answer, although the link was up",
    "ended": "nothing more was heard of it, although its link was up, or its lease ran out",
    "lost": "it did not answer, although its link was up"
  }
};

/** The rules that decide a status, by their codes. */
export const rules: Readonly<Record<string, string>> = {
  "awake": "somebody is awake at a session",
  "engaged": "the person is in a room that engages",
  "hiding": "the person hides from this view",
  "idle": "every session is idle",
  "no-session": "there is no unended session",
  "set": "the person has set it"
};

/** What happens to a session if nothing more is heard of it, by its code. {room} stands for a room. */
export const acts: Readonly<Record<string, string>> = {
  "ask-beat": "the service asks for a beat",
  "end-grace": "the grace ends, and the session with it",
  "end-lease": "the lease ends, and the session with it",
  "expire": "the token expires",
  "fall-idle": "the session falls idle",
  "leave": "the session leaves {room}",
  "lose": "the link counts as lost",
  "settle-probe": "the newer page takes the session over",
  "stop-typing": "typing in {room} ends",
  "warn-expiry": "the client is warned that its token expires"
};

/** The kinds of links. */
export const overs: Readonly<Record<string, string>> = {
  "beats": "HTTP beats",
  "stream": "an event stream",
  "websocket": "a WebSocket"
};

/** How an ask or an invitation ended, by the code of its outcome. */
export const outcomes: Readonly<Record<string, string>> = {
  "accepted": "was accepted",
  "admitted": "was answered: they were let in",
  "declined": "was declined",
  "expired": "was not answered in time",
  "gone": "ended with the session that it came from",
  "refused": "was answered: they were not let in",
  "withdrawn": "was withdrawn"
};
