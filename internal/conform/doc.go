// Package conform plays the service against a client of somebody else, over a real WebSocket, and checks the rules of
// docs/protocol.md that the client must follow.
//
// For each [Scenario] it runs the client's program anew, and gives it in its environment
//
//	SERVER  the URL of the service that is played
//	TOKENS  a URL: each GET returns another token of the person, as text
//	ROOM    the room to be in
//	STATE   a file for what the program keeps between two runs, as a page keeps it between two loads
//
// The program joins the room, and writes a line of JSON to its standard output after each change:
//
//	{"state":"open","members":["e-01","w-04"]}
//
// The state is connecting, open, lost, refused or closed; members are the ids of the people in the room, in any order.
// A line "bye" on its standard input asks it to end its session.
package conform
