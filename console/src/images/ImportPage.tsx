import { useMutation } from "@tanstack/react-query";
import { ArrowLeft } from "lucide-react";
import { useRef, useState } from "react";
import { Link, useNavigate } from "react-router";

import { answer, api, faultsOf, type FileEntry, type Inspection, type RevisionDraft } from "../api/client";
import { Faults } from "../parts/Faults";
import { Progress } from "../parts/Progress";
import { Section } from "../parts/Section";
import { size } from "../parts/size";
import { BuildSurvey } from "./BuildSurvey";
import { Recognised } from "./Recognised";
import { type Chosen, send } from "./upload";
import { useWork } from "./useImages";

interface Sending {
  what: string;
  done: number;
  total: number;
  rate: number;
  leftSecs: number | null;
}

/** Brings an image in: its files first, then what was recognised in them, then the save. */
export function ImportPage() {
  const [found, setFound] = useState<Inspection>();
  const [sending, setSending] = useState<Sending>();
  const stop = useRef<AbortController>(undefined);
  const work = useWork().filter((piece) => piece.what.startsWith("unpack"));
  const inspect = useMutation({
    mutationFn: async (draft: Partial<RevisionDraft>) => answer(await api.POST("/api/v1/images/inspect", { body: draft })),
    onSuccess: setFound,
  });
  const upload = useMutation({
    mutationFn: async (chosen: Chosen[]) => {
      stop.current = new AbortController();
      return sendAll(chosen, setSending, stop.current.signal);
    },
    onSuccess: (files) => {
      inspect.mutate({ files });
    },
    onSettled: () => {
      setSending(undefined);
    },
  });
  const failed = inspect.error ?? upload.error;
  const faults = faultsOf(inspect.error);
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/images" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Images
      </Link>
      <h1 className="mt-1 mb-4 text-lg font-semibold">Import an image</h1>
      {!sending && !found && (
        <Choose
          busy={inspect.isPending}
          files={(chosen) => {
            upload.mutate(chosen);
          }}
          inPlace={(path) => {
            inspect.mutate({ in_place: path });
          }}
        />
      )}
      {!sending && !found && (
        <Section title="The survey's system">
          <BuildSurvey />
        </Section>
      )}
      {sending && (
        <>
          <Progress {...sending} />
          <p className="mb-4 text-base-content/75">
            If this breaks off, choose the same file again: it goes on where it stopped.{" "}
            <button type="button" className="btn btn-xs" onClick={() => stop.current?.abort()}>
              Stop
            </button>
          </p>
        </>
      )}
      {work.map((piece) => (
        <Progress key={piece.id} {...piece} leftSecs={piece.left_secs} />
      ))}
      {inspect.isPending && <p role="status">Looking into it …</p>}
      <Faults title="This cannot be looked into." faults={faults} />
      {failed && faults.length === 0 && failed.name !== "AbortError" && (
        <p role="alert" className="mb-4 border-l-4 border-error pl-2 text-error">
          {failed.message}
        </p>
      )}
      {found && (
        <Save
          found={found}
          again={() => {
            setFound(undefined);
          }}
        />
      )}
    </div>
  );
}

/** Sends files one after another, telling how far all of them are. */
async function sendAll(
  chosen: Chosen[],
  tell: (sending: Sending) => void,
  stop: AbortSignal,
): Promise<FileEntry[]> {
  const total = chosen.reduce((sum, { file }) => sum + file.size, 0);
  const began = Date.now();
  const files: FileEntry[] = [];
  let before = 0;
  let first: number | undefined;
  for (const one of chosen) {
    const entry = await send(
      one,
      (bytes) => {
        const done = before + bytes;
        // What was there already says nothing of the rate.
        first ??= done;
        const secs = (Date.now() - began) / 1000;
        const rate = secs > 0.5 ? (done - first) / secs : 0;
        tell({ what: one.path, done, total, rate, leftSecs: rate > 0 ? (total - done) / rate : null });
      },
      stop,
    );
    before += one.file.size;
    files.push(entry);
  }
  return files;
}

function Choose(props: { busy: boolean; files: (chosen: Chosen[]) => void; inPlace: (path: string) => void }) {
  const [path, setPath] = useState("");
  const take = (list: FileList | null) => {
    const chosen = [...(list ?? [])].map((file) => ({
      file,
      // A folder's files come with the folder's own name in front.
      path: file.webkitRelativePath.split("/").slice(1).join("/") || file.name,
    }));
    if (chosen.length > 0) {
      props.files(chosen);
    }
  };
  return (
    <div className="grid max-w-4xl gap-x-8 sm:grid-cols-2">
      <Section title="From this computer">
        <label className="mb-2 block">
          An ISO, a tar archive, a disk image, a UEFI application, or a kernel with its initrds
          <input
            type="file"
            multiple
            className="file-input file-input-sm mt-1 w-full"
            aria-label="Files"
            onChange={(event) => {
              take(event.target.files);
            }}
          />
        </label>
        <label className="block">
          A folder
          <input
            type="file"
            className="file-input file-input-sm mt-1 w-full"
            aria-label="A folder"
            {...{ webkitdirectory: "" }}
            onChange={(event) => {
              take(event.target.files);
            }}
          />
        </label>
      </Section>
      <Section title="In place, on the service's host">
        <form
          onSubmit={(event) => {
            event.preventDefault();
            props.inPlace(path.trim());
          }}
        >
          <label>
            An ISO that lies there is served from where it is: nothing is copied.
            <input
              className="input input-sm mt-1 w-full font-mono"
              aria-label="Path of the ISO on the service's host"
              placeholder="/srv/iso/tidewrack-12.iso"
              value={path}
              onChange={(event) => {
                setPath(event.target.value);
              }}
            />
          </label>
          <button type="submit" className="btn btn-sm mt-2" disabled={props.busy || path.trim() === ""}>
            Look into it
          </button>
        </form>
      </Section>
    </div>
  );
}

type Texts = "name" | "title" | "kernel" | "program" | "disk";

/** What was recognised, what can be said by hand, and the save. */
function Save({ found, again }: { found: Inspection; again: () => void }) {
  const [draft, setDraft] = useState<Partial<RevisionDraft>>(found.draft);
  const go = useNavigate();
  const save = useMutation({
    mutationFn: async () => answer(await api.POST("/api/v1/images", { body: draft })),
    onSuccess: (image) => go(`/images/${image.name}`),
  });
  const refused = save.error ? faultsOf(save.error) : found.refused;
  const set = (part: Partial<RevisionDraft>) => {
    setDraft({ ...draft, ...part });
  };
  const text = (field: Texts, label: string) => (
    <Labelled label={label}>
      <input
        className="input input-sm w-full"
        aria-label={label}
        value={draft[field] ?? ""}
        onChange={(event) => {
          set({ [field]: field === "name" ? event.target.value : event.target.value || null });
        }}
      />
    </Labelled>
  );
  const lines = (field: "initrds" | "parameters", label: string) => (
    <Labelled label={label}>
      <textarea
        className="textarea textarea-sm min-h-0 w-full font-mono"
        aria-label={label}
        rows={Math.max(1, draft[field]?.length ?? 1)}
        value={(draft[field] ?? []).join("\n")}
        onChange={(event) => {
          set({ [field]: event.target.value.split("\n").filter((line) => line.trim() !== "") });
        }}
      />
    </Labelled>
  );
  const choice = (field: "kind" | "family" | "cpu", label: string, values: readonly string[]) => (
    <Labelled label={label}>
      <select
        className="select select-sm w-full"
        aria-label={label}
        value={draft[field] ?? ""}
        onChange={(event) => {
          set({ [field]: event.target.value || null });
        }}
      >
        <option value="">not known</option>
        {values.map((value) => (
          <option key={value} value={value}>
            {value}
          </option>
        ))}
      </select>
    </Labelled>
  );
  return (
    <div className="grid gap-x-8 lg:grid-cols-2">
      <Section title="What it is">
        <p className="mb-2 text-base-content/75">
          {size(found.size)} in {found.files === 1 ? "one file" : `${found.files} files`}. What is recognised can be said otherwise.
        </p>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            save.mutate();
          }}
        >
          {text("name", "Name")}
          {text("title", "Title")}
          {choice("kind", "Kind", ["installer", "live", "tool", "survey", "disk", "firmware-app"])}
          {choice("family", "Answer file", ["preseed", "kickstart", "autoinstall", "cloud-config", "unattended-xml", "none"])}
          {choice("cpu", "Processor", ["x86", "x64", "arm32", "arm64", "riscv64"])}
          {text("kernel", "Kernel")}
          {lines("initrds", "Initrds")}
          {draft.program != null && text("program", "Application")}
          {draft.disk != null && text("disk", "Disk")}
          {lines("parameters", "Parameters")}
          {found.faults.length > 0 && (
            <label className="flex items-center gap-2 py-2">
              <input
                type="checkbox"
                className="checkbox checkbox-sm"
                checked={draft.despite_faults ?? false}
                onChange={(event) => {
                  set({ despite_faults: event.target.checked });
                }}
              />
              Take it though something is wrong with it
            </label>
          )}
          <div className="my-3 flex gap-3">
            <button type="submit" className="btn btn-primary btn-sm" disabled={save.isPending}>
              Save as {draft.name} r{found.number}
            </button>
            <button type="button" className="btn btn-sm" onClick={again}>
              Choose other files
            </button>
          </div>
          <Faults title="It cannot be saved as it is; nothing was." faults={refused} />
          {save.error && refused.length === 0 && (
            <p role="alert" className="text-error">
              {save.error.message}
            </p>
          )}
        </form>
      </Section>
      <Section title="What was recognised, and where">
        <Faults title="It would not be served:" faults={found.faults} />
        <Recognised rows={found.recognised} notes={found.notes} />
      </Section>
    </div>
  );
}

function Labelled({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <div className="grid gap-x-4 py-0.5 sm:grid-cols-[8rem_minmax(0,1fr)]">
      <span className="pt-1 text-base-content/75">{label}</span>
      <div>{children}</div>
    </div>
  );
}
