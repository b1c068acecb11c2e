import { ArrowLeft } from "lucide-react";
import { Link, useParams } from "react-router";

import { answer, api, done, type Edited, type ImageDetail, type RevisionRow } from "../api/client";
import { Conflict } from "../parts/Conflict";
import { Digest } from "../parts/Digest";
import { Refusal } from "../parts/Faults";
import { NameActions } from "../parts/NameActions";
import { Pairs } from "../parts/Pairs";
import { Progress } from "../parts/Progress";
import { Section } from "../parts/Section";
import { size } from "../parts/size";
import { Answered } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { Ago, When } from "../parts/Time";
import { Ready } from "./Ready";
import { Recognised } from "./Recognised";
import { type RevisionAction, useImage, useRevisionAction, useTitle, useWork } from "./useImages";

export function ImagePage() {
  const { name = "" } = useParams();
  const image = useImage(name);
  const work = useWork().filter((piece) => piece.what.includes(`${name} r`));
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/images" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Images
      </Link>
      <div className="mt-1 mb-4 flex items-center gap-2">
        <h1 className="mr-2 text-lg font-semibold">{name}</h1>
        <NameActions
          noun="image"
          name={name}
          page={(of) => `/images${of === undefined ? "" : `/${of}`}`}
          rename={async (to) => answer(await api.POST("/api/v1/images/{name}/rename", { params: { path: { name } }, body: { to } }))}
          remove={async () => {
            done(await api.DELETE("/api/v1/images/{name}", { params: { path: { name } } }));
          }}
          lost="All of its revisions are lost. The record of installs keeps what was installed."
        />
      </div>
      {work.map((piece) => (
        <Progress key={piece.id} {...piece} leftSecs={piece.left_secs} />
      ))}
      <Answered query={image}>{(data) => <Detail image={data} />}</Answered>
    </div>
  );
}

const started = (start: ImageDetail["revision"]["start"]): [string, string] => {
  if ("kernel" in start) {
    return ["Kernel", [start.kernel.kernel, ...start.kernel.initrds].join(", ")];
  }
  return "program" in start ? ["Application", start.program.path] : ["Disk", start.disk.path];
};

const place = (volume: ImageDetail["revision"]["volume"]): string => {
  if (volume == null) {
    return "–";
  }
  return "in-place" in volume ? `${volume["in-place"].path}, in place` : "in the library";
};

type File = ImageDetail["revision"]["files"][number];

const FILES: Column<File>[] = [
  { name: "File", value: (file) => file.path, cell: (file) => <span className="break-all">{file.path}</span> },
  { name: "Size", value: (file) => file.size, cell: (file) => size(file.size) },
  {
    name: "SHA-256",
    show: "hidden sm:table-cell",
    value: (file) => file.sha256 ?? "–",
    cell: (file) => (file.sha256 == null ? "not read yet" : <Digest value={file.sha256} />),
  },
];

function Detail({ image }: { image: Edited<ImageDetail> }) {
  const { revision } = image;
  return (
    <div className="grid gap-x-8 lg:grid-cols-[minmax(0,28rem)_minmax(0,1fr)]">
      <div>
        <Section title={`Revision ${revision.number}, the current one`}>
          {image.disagreements.map((what) => (
            <p key={what} className="mb-2 border-l-4 border-accent pl-2">
              {what}
            </p>
          ))}
          <Pairs
            pairs={[
              ["Ready", <Ready key="ready" revision={revision} />],
              ["Title", <Title key={image.title} image={image} />],
              ["Kind", image.kind],
              ["Answers", revision.family],
              started(revision.start),
              ["Parameters", revision.parameters.join(" ") || "–"],
              ["ISO", place(revision.volume)],
              ["Size", `${size(revision.size)} in ${revision.file_count} files`],
              ["Manifest", <Digest key="hash" value={revision.manifest_hash} />],
              ["Verified", revision.verified ? <When key="verified" at={revision.verified} /> : "being read"],
              ["Installed on", `${image.machines} machines`],
              ["In menus", <Menus key="menus" names={image.menus} />],
            ]}
          />
        </Section>
        <Section title="Revisions">
          <Revisions image={image} />
        </Section>
      </div>
      <div>
        <Section title="What was recognised, and where">
          <Recognised rows={revision.recognised} notes={revision.notes} />
        </Section>
        <Section title="Files">
          <Table label="Files" rows={revision.files} columns={FILES} keyOf={(file) => file.path} />
        </Section>
      </div>
    </div>
  );
}

/** What the person at the machine reads, to be changed in its place. */
function Title({ image }: { image: Edited<ImageDetail> }) {
  const { draft: title, setDraft: setTitle, isChanged, take, save } = useTitle(image);
  const submit = (event: React.SyntheticEvent) => {
    event.preventDefault();
    save.mutate(undefined);
  };
  return (
    <form onSubmit={submit} className="flex flex-wrap items-center gap-2">
      <input
        className="input input-sm min-w-0 flex-1"
        aria-label="Title"
        value={title}
        onChange={(event) => {
          setTitle(event.target.value);
        }}
      />
      {isChanged && (
        <button type="submit" className="btn btn-xs" disabled={save.isPending}>
          Save
        </button>
      )}
      <Refusal error={save.error} />
      <Conflict
        save={save}
        theirs={() => {
          take(image);
        }}
      />
    </form>
  );
}

function Menus({ names }: { names: string[] }) {
  if (names.length === 0) {
    return "–";
  }
  return names.map((name) => (
    <Link key={name} className="link mr-2" to={`/menus/${name}`}>
      {name}
    </Link>
  ));
}

function Revisions({ image }: { image: ImageDetail }) {
  const action = useRevisionAction(image.name);
  const act = (what: RevisionAction, revision: RevisionRow) => () => {
    action.mutate({ action: what, number: revision.number });
  };
  return (
    <>
      <Refusal error={action.error} title="Nothing was changed." />
      <ul className="divide-y divide-base-200">
        {image.all.map((revision) => {
          const isCurrent = revision.number === image.current.number;
          return (
            <li key={revision.number} className="py-2">
              <div className="flex flex-wrap gap-x-3">
                <span className="font-medium">r{revision.number}</span>
                {isCurrent && <span className="border-l-4 border-accent pl-2">current</span>}
                <span><Ago at={revision.created} /></span>
                <span>{size(revision.size)}</span>
                <span className="text-base-content/70">{revision.machines} machines</span>
                <Ready revision={revision} />
              </div>
              <div className="mt-1 flex flex-wrap gap-2">
                <Act label="Read it again" of={revision} act={act("verify", revision)} busy={action.isPending} />
                {!isCurrent && revision.retired == null && (
                  <>
                    <Act label="Make it current" of={revision} act={act("current", revision)} busy={action.isPending} />
                    <Act label="Retire" of={revision} act={act("retire", revision)} busy={action.isPending} />
                  </>
                )}
                {revision.retired != null && (
                  <Act label="Bring it back" of={revision} act={act("restore", revision)} busy={action.isPending} />
                )}
                {!isCurrent && (
                  <Act label="Remove" of={revision} act={act("remove", revision)} busy={action.isPending} />
                )}
              </div>
            </li>
          );
        })}
      </ul>
    </>
  );
}

function Act(props: { label: string; of: RevisionRow; act: () => void; busy: boolean }) {
  return (
    <button
      type="button"
      className="btn btn-xs"
      disabled={props.busy}
      aria-label={`${props.label}: r${props.of.number}`}
      onClick={props.act}
    >
      {props.label}
    </button>
  );
}
