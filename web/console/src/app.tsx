import { lazy, Suspense, useEffect, useState } from "react";
import { Route, Switch } from "wouter";
import { type SignedIn, signedIn, signIn, signOut, takeFragment } from "./operator";
import { HookPage, HooksPage } from "./pages/hooks";
import { JournalPage } from "./pages/journal";
import { KeysPage } from "./pages/keys";
import { NodesPage } from "./pages/nodes";
import { PeoplePage } from "./pages/people";
import { PersonPage } from "./pages/person";
import { PoliciesPage } from "./pages/policies";
import { Practice } from "./pages/practice";
import { RoomPage } from "./pages/room";
import { Rooms } from "./pages/rooms";
import { SignIn } from "./pages/sign-in";
import { UsagePage } from "./pages/usage";
import { Visit } from "./pages/visit";
import { Frame } from "./parts/frame";

/** The charts are loaded when needed. */
const HeadcountPage = lazy(async () => ({ default: (await import("./pages/headcount")).HeadcountPage }));

const TimingPage = lazy(async () => ({ default: (await import("./pages/timing")).TimingPage }));

/** The pages: Visit, Practice, and all others behind a sign-in. */
export function App() {
  return (
    <Switch>
      <Route path="/visit">
        <Visit />
      </Route>
      <Route path="/practice">
        <Practice />
      </Route>
      <Route>
        <Console />
      </Route>
    </Switch>
  );
}

/** A key in the address (/#key=…), which the demo prints, signs in at once. */
async function begin(): Promise<SignedIn | undefined> {
  const key = takeFragment().get("key");
  return key ? signIn(key) : signedIn();
}

/** The user id in the address of a person. It may have any characters; the router has decoded some of them. */
function userInAddress(): string {
  const [, , user = ""] = location.pathname.split("/");
  try {
    return decodeURIComponent(user);
  } catch {
    return user; // that of nobody, and the page says so
  }
}

function Console() {
  const [operator, setOperator] = useState<SignedIn>();
  const [problem, setProblem] = useState<string>();
  const [begun, setBegun] = useState(false);
  useEffect(() => {
    begin()
      .then(setOperator, (error: Error) => setProblem(error.message))
      .finally(() => setBegun(true));
  }, []);
  const leave = () => {
    void signOut();
    setOperator(undefined);
  };
  if (!begun) return <Frame title="Console">{null}</Frame>;
  if (!operator) return <SignIn problem={problem} onSignIn={setOperator} />;
  return (
    <Switch>
      <Route path="/rooms/:room">
        {({ room }) => <RoomPage key={room} room={room} operator={operator} onSignOut={leave} />}
      </Route>
      <Route path="/people">
        <PeoplePage onSignOut={leave} />
      </Route>
      <Route path="/people/:user">
        {() => {
          const user = userInAddress();
          return <PersonPage key={user} user={user} operator={operator} onSignOut={leave} />;
        }}
      </Route>
      <Route path="/journal">
        <JournalPage onSignOut={leave} />
      </Route>
      <Route path="/headcount">
        <Suspense>
          <HeadcountPage whole={operator.rooms === undefined} onSignOut={leave} />
        </Suspense>
      </Route>
      <Route path="/usage">
        <UsagePage whole={operator.rooms === undefined} onSignOut={leave} />
      </Route>
      <Route path="/timing">
        <Suspense>
          <TimingPage onSignOut={leave} />
        </Suspense>
      </Route>
      <Route path="/policies">
        <PoliciesPage onSignOut={leave} />
      </Route>
      <Route path="/hooks">
        <HooksPage onSignOut={leave} />
      </Route>
      <Route path="/hooks/:id">{({ id }) => <HookPage key={id} id={id} onSignOut={leave} />}</Route>
      <Route path="/keys">
        <KeysPage onSignOut={leave} />
      </Route>
      <Route path="/nodes">
        <NodesPage onSignOut={leave} />
      </Route>
      <Route>
        <Rooms operator={operator} onSignOut={leave} />
      </Route>
    </Switch>
  );
}
