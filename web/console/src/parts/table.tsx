import type { ReactNode } from "react";

/** A table that scrolls sideways if it does not fit. A column without a head is for actions. */
export function Table(props: { heads: readonly string[]; marker: string; children: ReactNode }) {
  return (
    <div className="overflow-x-auto">
      <table
        className="w-full text-left text-sm [&_td]:px-2 [&_td]:py-2 sm:[&_td]:px-4 [&_th]:px-2 [&_th]:py-2 sm:[&_th]:px-4"
        data-list={props.marker}
      >
        <thead className="text-muted text-xs">
          <tr className="border-line border-b [&>th]:font-medium">
            {props.heads.map((head) => (
              <th key={head} scope="col">
                {head || <span className="sr-only">Acts</span>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody className="[&>tr:last-child]:border-0 [&>tr]:border-line [&>tr]:border-b">
          {props.children}
        </tbody>
      </table>
    </div>
  );
}
