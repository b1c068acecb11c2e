import { Link } from "react-router";

import type { ImageRow } from "../api/client";
import { Progress } from "../parts/Progress";
import { size } from "../parts/size";
import { Answered, Empty } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { Ago } from "../parts/Time";
import { Ready } from "./Ready";
import { useImages, useWork } from "./useImages";

/** Those that need somebody come first. */
const needs = (image: ImageRow) => (image.current.lacking.length > 0 ? 0 : image.disagreements.length > 0 ? 1 : 2);

const COLUMNS: Column<ImageRow>[] = [
  {
    name: "Name",
    value: (image) => image.name,
    cell: (image) => (
      <>
        <Link className="link-hover font-medium" to={`/images/${image.name}`}>
          {image.name}
        </Link>
        <span className="block text-xs text-base-content/70">{image.title}</span>
        {image.disagreements.map((what) => (
          <span key={what} className="block border-l-4 border-accent pl-2 text-xs">
            {what}
          </span>
        ))}
      </>
    ),
  },
  { name: "Kind", value: (image) => image.kind },
  { name: "Answers", show: "hidden lg:table-cell", value: (image) => image.current.family.replace("none", "–") },
  { name: "Version", show: "hidden sm:table-cell", value: (image) => image.current.version ?? "–" },
  { name: "Kernel", show: "hidden lg:table-cell", value: (image) => image.current.kernel_version ?? "–" },
  { name: "CPU", show: "hidden lg:table-cell", value: (image) => image.current.cpu ?? "–" },
  { name: "Revision", show: "hidden sm:table-cell", value: (image) => `r${image.current.number}` },
  {
    name: "Size",
    show: "hidden sm:table-cell",
    value: (image) => image.current.size,
    cell: (image) => <span className="whitespace-nowrap">{size(image.current.size)}</span>,
  },
  {
    name: "Imported",
    show: "hidden lg:table-cell",
    value: (image) => -Date.parse(image.current.created),
    cell: (image) => <Ago at={image.current.created} />,
  },
  { name: "On", show: "hidden sm:table-cell", value: (image) => image.machines },
  { name: "Ready", value: needs, cell: (image) => <Ready revision={image.current} /> },
];

export function ImagesPage() {
  const images = useImages();
  const work = useWork();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex items-center gap-4">
        <h1 className="text-lg font-semibold">{images.data ? `${images.data.length} images` : "Images"}</h1>
        <Link className="btn btn-sm" to="/import">
          Import an image
        </Link>
      </div>
      {work.map((piece) => (
        <Progress key={piece.id} {...piece} leftSecs={piece.left_secs} />
      ))}
      <Answered query={images} rows={4}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="There is no image yet">
              An ISO, a folder, a tar archive, or a kernel and its initrds: <code>lastmile image add FILE</code>, or{" "}
              <Link className="link" to="/import">
                import one here
              </Link>
              .
            </Empty>
          ) : (
            <Table
              label="Images"
              rows={all}
              columns={COLUMNS}
              keyOf={(image) => image.name}
              order={{ column: "Ready", reverse: false }}
            />
          )
        }
      </Answered>
    </div>
  );
}
