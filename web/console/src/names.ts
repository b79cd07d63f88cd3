import { useQuery, useQueryClient } from "@tanstack/react-query";
import { ask, type People, query } from "./api";

/** How many names are asked for at once. */
const atOnce = 100;

/**
 * The names of people, as the directory has them. What is not known yet is asked for, all at once, and kept
 * for all pages; until then, and for a key that may not read the directory, there is none.
 */
export function useNames(users: readonly string[]): (user: string) => string | undefined {
  const client = useQueryClient();
  const names = new Map(
    [...new Set(users)].map((user) => [user, client.getQueryData<string>(["name", user])]),
  );
  const unknown = [...names.keys()].filter((user) => names.get(user) === undefined).slice(0, atOnce);
  useQuery({
    queryKey: ["names", unknown],
    queryFn: async () => {
      const { people } = await ask<People>(`/v1/people${query({ user: unknown, limit: atOnce })}`);
      const found = new Map(people.map(({ user, name }) => [user, name]));
      for (const user of unknown) client.setQueryData(["name", user], found.get(user) ?? "");
      return unknown.length;
    },
    enabled: unknown.length > 0,
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (user) => names.get(user) || undefined;
}
