export type { Browser, Happening } from "./browser";
export { type Elements, elements } from "./elements";
export {
  type Kept,
  Link,
  type LinkOptions,
  type Snapshot,
  type State,
  type StatusMore,
  type TokenSource,
} from "./link";
export { askSentence, type Meeting, type OwnAsk } from "./meeting";
export { type Change, membersOf, type Room } from "./replica";
export { Refused } from "./requests";
export { openTab, type Tab, type TabOptions } from "./tab";
export type { Over } from "./transports";
export { Composer, composeIn, typingSentence } from "./typing";
export type {
  Addressee,
  Ask,
  Count,
  CueFrame,
  Departed,
  Detail,
  Device,
  Doing,
  Drop,
  Following,
  Invitation,
  InvitationEnd,
  Invitations,
  Member,
  Opened,
  Own,
  Page,
  PersonFrame,
  Problem,
  Reason,
  Status,
  Tally,
  Timings,
  Watch,
  Without,
} from "./wire";
