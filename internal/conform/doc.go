// Package conform plays the service against somebody else's client, over a real WebSocket, and checks that the client
// follows the rules of docs/protocol.md.
//
// It starts the client's program once for each [Scenario], with these variables in its environment:
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
