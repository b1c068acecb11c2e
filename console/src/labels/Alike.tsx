import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";

import { answer, api, type Spread } from "../api/client";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { type Column, Table } from "../parts/Table";

const NAMED = 6;

function Names({ names }: { names: string[] }) {
  return (
    <>
      {names.slice(0, NAMED).map((name) => (
        <Link key={name} className="link-hover mr-2" to={`/machines/${name}?tab=facts`}>
          {name}
        </Link>
      ))}
      {names.length > NAMED && `and ${names.length - NAMED} more`}
    </>
  );
}

const COLUMNS: Column<Spread>[] = [
  { name: "Fact", value: ({ place }) => place, cell: ({ place }) => <code className="text-xs break-all">{place}</code> },
  { name: "Most have", value: ({ values }) => values[0]?.value ?? "nothing" },
  {
    name: "Others have",
    value: ({ values }) => values.slice(1).map(({ value }) => value ?? "nothing").join(" "),
    cell: ({ values }) => (
      <ul>
        {values.slice(1).map(({ value, machines }) => (
          <li key={value ?? ""}>
            {value ?? "nothing"} <span className="text-base-content/75">on</span> <Names names={machines} />
          </li>
        ))}
      </ul>
    ),
  },
];

/** How alike the machines of a label are by what surveys measured. */
export function Alike({ label }: { label: string }) {
  const alike = useQuery({
    queryKey: ["facts", "label", label],
    queryFn: async () => answer(await api.GET("/api/v1/labels/{name}/facts", { params: { path: { name: label } } })),
  });
  return (
    <Answered query={alike} rows={2}>
      {({ surveyed, different, facts, unsurveyed }) =>
        surveyed > 1 && (
          <div className="mt-6 max-w-4xl">
            <Section title="Hardware">
              <p className="mb-2">
                {different.length === 0 ? (
                  `All ${surveyed} machines that were surveyed are alike.`
                ) : (
                  <>
                    {surveyed} machines were surveyed: all alike except {different.length}, <Names names={different} />
                  </>
                )}
              </p>
              {facts.length > 0 && <Table label="In what they differ" rows={facts} columns={COLUMNS} keyOf={({ place }) => place} />}
              {unsurveyed.length > 0 && (
                <p className="mt-2 text-base-content/75">
                  Never surveyed: <Names names={unsurveyed} />
                </p>
              )}
            </Section>
          </div>
        )
      }
    </Answered>
  );
}
