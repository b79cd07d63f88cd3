/** The pages of the console, by address. */
export const places = [
  ["/", "Rooms"],
  ["/people", "People"],
  ["/journal", "Journal"],
  ["/headcount", "Headcount"],
  ["/usage", "Usage"],
  ["/timing", "Timing"],
  ["/policies", "Policies"],
  ["/hooks", "Hooks"],
  ["/keys", "Keys"],
] as const;

/** The page of the nodes, which a service that is alone does not have. */
export const nodesPlace = ["/nodes", "Nodes"] as const;
