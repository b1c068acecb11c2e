import { type FoundLoader } from "../api/client";
import { type Column, Table } from "../parts/Table";

/** Loaders that were found in packages, each with a button that adds it, or why it cannot be added. */
export function FoundLoaders(props: {
  label: string;
  loaders: FoundLoader[];
  busy: boolean;
  add: (name: string) => void;
}) {
  const columns: Column<FoundLoader>[] = [
    { name: "Name", value: (loader) => loader.name },
    { name: "Program", value: (loader) => loader.facts.program?.value ?? "–" },
    { name: "Package", show: "hidden lg:table-cell", value: (loader) => loader.package },
    {
      name: "Signed by",
      show: "hidden lg:table-cell",
      value: (loader) => loader.facts.signers.join(", ") || "not signed",
    },
    {
      name: "Action",
      value: (loader) => loader.in_the_way ?? "",
      cell: (loader) =>
        loader.in_the_way ? (
          <span className="text-base-content/70">{loader.in_the_way}</span>
        ) : (
          <button
            type="button"
            className="btn btn-xs"
            disabled={props.busy}
            aria-label={`Add ${loader.name}`}
            onClick={() => {
              props.add(loader.name);
            }}
          >
            Add
          </button>
        ),
    },
  ];
  return <Table label={props.label} rows={props.loaders} columns={columns} keyOf={(loader) => loader.name} />;
}
