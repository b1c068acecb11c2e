import { Plus } from "lucide-react";
import { Link } from "react-router";

import type { LabelView } from "../api/client";
import { Answered, Empty } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { useLabels } from "./useLabels";

const COLUMNS: Column<LabelView>[] = [
  {
    name: "Label",
    value: ({ name }) => name,
    cell: ({ name }) => (
      <Link className="link-hover font-medium" to={`/labels/${encodeURIComponent(name)}`}>
        {name}
      </Link>
    ),
  },
  {
    name: "Machines",
    value: ({ machines }) => machines,
    cell: ({ name, machines }) => (
      <Link className="link-hover" to={`/machines?label=${encodeURIComponent(name)}`}>
        {machines}
      </Link>
    ),
  },
  { name: "Rank", value: ({ rank }) => rank },
  { name: "Menu", value: ({ menu }) => menu ?? "–" },
  {
    name: "Armed with",
    show: "hidden sm:table-cell",
    value: ({ image, answers }) => [image, answers].filter(Boolean).join(", ") || "–",
  },
  {
    name: "Parameters",
    show: "hidden sm:table-cell",
    value: ({ parameters }) => parameters.join(" "),
    cell: ({ parameters }) => <code>{parameters.join(" ") || "–"}</code>,
  },
  {
    name: "Without",
    show: "hidden sm:table-cell",
    value: ({ without_parameters }) => without_parameters.join(" "),
    cell: ({ without_parameters }) => <code>{without_parameters.join(" ") || "–"}</code>,
  },
];

/** Labels: what groups machines, and what the machines of one have in common. */
export function LabelsPage() {
  const labels = useLabels();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex items-center gap-4">
        <h1 className="text-lg font-semibold">Labels</h1>
        <Link to="/labels/new" className="btn btn-primary btn-sm ml-auto">
          <Plus className="size-4" aria-hidden /> Add
        </Link>
      </div>
      <Answered query={labels} rows={4}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="No machine has a label yet">
              A label groups machines: all kiosks, all machines of a hall. Machines of one label can share a menu, kernel
              parameters and install settings. Select machines to give them one.
            </Empty>
          ) : (
            <Table label="Labels" rows={all} columns={COLUMNS} keyOf={({ name }) => name} />
          )
        }
      </Answered>
    </div>
  );
}
