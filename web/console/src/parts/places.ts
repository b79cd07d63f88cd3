/** The pages of the console, by address. */
export const places = [
  ["/", "Rooms"],
  ["/people", "People"],
  ["/journal", "Journal"],
  ["/headcount", "Headcount"],
  ["/timing", "Timing"],
  ["/policies", "Policies"],
  ["/hooks", "Hooks"],
  ["/keys", "Keys"],
] as const;
