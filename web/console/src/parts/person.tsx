import type { Member } from "@client/wire";
import { Avatar } from "radix-ui";
import { Link } from "wouter";

/** A person's picture or initials, with name and id; for an operator, a link to their page. */
export function Person({
  member,
  you = false,
  linked = false,
}: {
  member: Member;
  you?: boolean;
  linked?: boolean;
}) {
  const name = member.name ?? member.user;
  return (
    <span className="flex min-w-0 items-center gap-3">
      <Avatar.Root className="grid size-8 shrink-0 max-sm:hidden place-items-center overflow-hidden rounded-md bg-wash font-medium text-water text-xs">
        {member.picture && <Avatar.Image src={member.picture} alt="" className="size-full object-cover" />}
        <Avatar.Fallback>{initials(name)}</Avatar.Fallback>
      </Avatar.Root>
      <span className="min-w-0">
        <span className="block truncate font-medium">
          {linked ? (
            <Link href={`/people/${encodeURIComponent(member.user)}`} className="hover:underline">
              {name}
            </Link>
          ) : (
            name
          )}
          {you && <span className="ml-2 rounded bg-wash px-1.5 py-0.5 text-water text-xs">you</span>}
        </span>
        <span className="block truncate font-mono text-muted text-xs">{member.user}</span>
      </span>
    </span>
  );
}

function initials(name: string): string {
  const words = name.split(/\s+/).filter(Boolean);
  return words
    .slice(0, 2)
    .map((word) => [...word][0]?.toUpperCase() ?? "")
    .join("");
}
