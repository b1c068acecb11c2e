import { useState } from "react";

import type { FactsDifference } from "../api/client";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { useFactsComparison } from "./useFacts";

/** In what another machine's hardware differs from this one's. */
export function Against({ who }: { who: string }) {
  const [typed, setTyped] = useState("");
  const [other, setOther] = useState("");
  const comparison = useFactsComparison(who, other);
  const columns: Column<FactsDifference>[] = [
    { name: "Fact", value: ({ place }) => place },
    { name: who, value: ({ before }) => before ?? "–" },
    { name: other, value: ({ now }) => now ?? "–" },
  ];
  return (
    <Section title="Compare">
      <form
        className="mb-2 flex flex-wrap items-end gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          setOther(typed.trim());
        }}
      >
        <label>
          <span className="block text-base-content/75">Another machine, by name or MAC address</span>
          <input
            className="input input-sm w-64"
            aria-label="Compare with"
            value={typed}
            onChange={(event) => {
              setTyped(event.target.value);
            }}
          />
        </label>
        <button type="submit" className="btn btn-sm" disabled={typed.trim() === "" || typed.trim() === who}>
          Compare
        </button>
      </form>
      {other !== "" && (
        <Answered query={comparison} rows={3}>
          {({ differences }) =>
            differences.length === 0 ? (
              <p role="status">
                {who} and {other} are alike.
              </p>
            ) : (
              <Table label={`${who} and ${other}`} rows={differences} columns={columns} keyOf={({ place }) => place} />
            )
          }
        </Answered>
      )}
    </Section>
  );
}
