import { useQuery, useQueryClient } from "@tanstack/react-query";
import { ask, type People, query } from "./api";

/** The longest URL of a query for people: the service accepts request heads of 4 KB. */
const longest = 2000;

/**
 * The names of people from the directory. Unknown ones are requested, many at once, and kept for all pages. Until
 * then, and for a key that may not read the directory, there is none.
 */
export function useNames(users: readonly string[]): (user: string) => string | undefined {
  const client = useQueryClient();
  const names = new Map(
    [...new Set(users)].map((user) => [user, client.getQueryData<string>(["name", user])]),
  );
  const unknown = some([...names.keys()].filter((user) => names.get(user) === undefined));
  useQuery({
    queryKey: ["names", unknown],
    queryFn: async () => {
      const { people } = await ask<People>(`/v1/people${query({ user: unknown, limit: unknown.length })}`);
      const found = new Map(people.map(({ user, name }) => [user, name]));
      for (const user of unknown) client.setQueryData(["name", user], found.get(user) ?? "");
      return unknown.length;
    },
    enabled: unknown.length > 0,
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (user) => names.get(user) || undefined;
}

/** The first ids that fit into a URL, at least one. */
function some(users: readonly string[]): readonly string[] {
  let length = 0;
  return users.filter((user, i) => {
    length += query({ user }).length;
    return i === 0 || length <= longest;
  });
}
