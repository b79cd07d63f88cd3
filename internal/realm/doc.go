// Package realm holds the use cases of Tovik: everything that anybody may ask of a realm or
// do in it, whichever door it came through.
//
// A [Realm] owns its core and what follows that. A [Conversation] is one client with a link
// (a person, or an operator who watches), and a [Desk] is the holder of a key who asks over
// HTTP. Both check what the asker may do, and own the order of a change: it is written
// before it is answered, and told to others after.
//
// Requests and answers are plain data, the shapes of package wire where there is one: links
// and cores may be on different nodes. No caller reaches into a core. No rule of presence
// stands here. The package may import delivery, engine, records, access, admission, problem,
// pace, presence and wire.
package realm
