import { useState } from "react";
import { Route, Switch } from "wouter";
import { signInKey, signOut } from "./operator";
import { Board } from "./pages/board";
import { Practice } from "./pages/practice";
import { RoomPage } from "./pages/room";
import { SignIn } from "./pages/sign-in";
import { Visit } from "./pages/visit";

/** The pages: a visitor's, and for who has an operator key the board and the rooms. */
export function App() {
  const [key, setKey] = useState(signInKey);
  const leave = () => {
    signOut();
    setKey(undefined);
  };
  return (
    <Switch>
      <Route path="/visit">
        <Visit />
      </Route>
      <Route path="/practice">
        <Practice />
      </Route>
      {!key && (
        <Route>
          <SignIn onSignIn={setKey} />
        </Route>
      )}
      {key && (
        <Route path="/rooms/:room">
          {({ room }) => <RoomPage key={room} operatorKey={key} room={room} onSignOut={leave} />}
        </Route>
      )}
      {key && (
        <Route>
          <Board operatorKey={key} onSignOut={leave} />
        </Route>
      )}
    </Switch>
  );
}
