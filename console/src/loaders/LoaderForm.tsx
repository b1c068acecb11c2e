import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { answer, api, type Edited, edited, type FileEntry, type LoaderView } from "../api/client";
import { send } from "../images/upload";
import { Dialog } from "../parts/Dialog";
import { Refusal } from "../parts/Faults";
import { Field } from "../parts/Form";
import { DialogEnd, NotSaved } from "../parts/FormEnd";
import { Answered } from "../parts/States";
import { useDraft } from "../parts/useDraft";

const FIELDS = ["name", "architecture", "class", "user_class", "boot_file", "http", "language", "files"];
const ARCHITECTURES = ["bios", "uefi-x64", "uefi-x86", "uefi-arm64", "uefi-arm32"];
const HTTP: [string, string][] = [
  ["none", "not by HTTP"],
  ["port-80", "on port 80 only"],
  ["any-port", "on any port"],
];

/** Adds a loader from files of this computer, or changes the one that is named. */
export function LoaderForm({ change, close }: { change: string | undefined; close: () => void }) {
  return (
    <Dialog title={change === undefined ? "Add a loader from files" : `Change ${change}`} close={close}>
      {change === undefined ? <Form saved={undefined} close={close} /> : <Change name={change} close={close} />}
    </Dialog>
  );
}

/** It is read anew, so that nothing is overwritten that somebody else has saved meanwhile. */
function Change({ name, close }: { name: string; close: () => void }) {
  const loader = useQuery({
    queryKey: ["loaders", name, "form"],
    gcTime: 0,
    queryFn: async () => edited(await api.GET("/api/v1/loaders/{name}", { params: { path: { name } } })),
  });
  return <Answered query={loader}>{(saved) => <Form saved={saved} close={close} />}</Answered>;
}

interface Draft {
  name: string;
  architecture: string;
  class: string;
  user_class: string;
  boot_file: string;
  http: string;
  files: FileEntry[];
}

function toDraft(loader: LoaderView | undefined): Draft {
  return {
    name: loader?.name ?? "",
    architecture: loader?.architecture ?? "",
    class: loader?.class ?? "",
    user_class: loader?.user_class ?? "",
    boot_file: loader?.boot_file ?? "",
    http: loader?.http ?? "",
    files: loader?.files ?? [],
  };
}

function Form({ saved, close }: { saved: Edited<LoaderView> | undefined; close: () => void }) {
  const { draft, setDraft, headers, take } = useDraft(saved, toDraft);
  const set = (part: Partial<Draft>) => {
    setDraft({ ...draft, ...part });
  };
  const queries = useQueryClient();
  const upload = useMutation({
    mutationFn: async (chosen: File[]) => {
      const sent: FileEntry[] = [];
      for (const file of chosen) {
        sent.push(await send({ path: file.name, file }, () => undefined, new AbortController().signal));
      }
      return sent;
    },
    onSuccess: (sent) => {
      set({ files: sent, boot_file: sent[0]?.path ?? "" });
    },
  });
  const save = useMutation({
    mutationFn: async (etag?: string) => {
      const body = {
        name: draft.name.trim(),
        architecture: draft.architecture || null,
        class: draft.class.trim() || null,
        user_class: draft.user_class.trim() || null,
        boot_file: draft.boot_file,
        http: (draft.http || null) as LoaderView["http"] | null,
        language: saved?.language ?? null,
        files: draft.files,
      };
      return answer(
        saved
          ? await api.PUT("/api/v1/loaders/{name}", { params: { path: { name: saved.name } }, headers: headers(etag), body })
          : await api.POST("/api/v1/loaders", { body }),
      );
    },
    onSuccess: async () => {
      close();
      await queries.invalidateQueries();
    },
  });
  return (
    <form
      className="grid gap-3 sm:grid-cols-2"
      aria-label="Loader"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(undefined);
      }}
    >
      {!saved && (
        <Field field="name" label="Name" error={save.error}>
          <input className="input w-full" placeholder="x64-signed" value={draft.name} onChange={({ target }) => { set({ name: target.value }); }} />
        </Field>
      )}
      {!saved && (
        <Field field="files" label="Files" error={save.error}>
          <input
            type="file"
            multiple
            className="file-input w-full"
            aria-label="Loader files"
            onChange={({ target }) => {
              upload.mutate([...(target.files ?? [])]);
            }}
          />
        </Field>
      )}
      <Field field="boot_file" label="Boot file" hint="The file that firmware fetches first." error={save.error}>
        <select className="select w-full" value={draft.boot_file} onChange={({ target }) => { set({ boot_file: target.value }); }}>
          {draft.files.length === 0 && <option value="">choose files first</option>}
          {draft.files.map(({ path }) => (
            <option key={path} value={path}>{path}</option>
          ))}
        </select>
      </Field>
      <Field field="architecture" label="Firmware" error={save.error}>
        <select className="select w-full" value={draft.architecture} onChange={({ target }) => { set({ architecture: target.value }); }}>
          <option value="">as recognised in the boot file</option>
          {ARCHITECTURES.map((one) => (
            <option key={one} value={one}>{one}</option>
          ))}
        </select>
      </Field>
      <Field field="http" label="Fetches by HTTP" error={save.error}>
        <select className="select w-full" value={draft.http} onChange={({ target }) => { set({ http: target.value }); }}>
          <option value="">as recognised</option>
          {HTTP.map(([value, text]) => (
            <option key={value} value={value}>
              {text}
            </option>
          ))}
        </select>
      </Field>
      <Field field="class" label="Vendor class (option 60)" hint="Only for clients whose class begins so." error={save.error}>
        <input className="input w-full" placeholder="all" value={draft.class} onChange={({ target }) => { set({ class: target.value }); }} />
      </Field>
      <Field field="user_class" label="User class (option 77)" hint="Only for clients with this class." error={save.error}>
        <input className="input w-full" placeholder="all" value={draft.user_class} onChange={({ target }) => { set({ user_class: target.value }); }} />
      </Field>
      <div className="sm:col-span-2">
        {upload.isPending && <p role="status">Sending the files …</p>}
        <Refusal error={upload.error} title="The files were not sent." />
        <NotSaved fields={FIELDS} save={save} theirs={saved && (() => { take(saved); })} />
      </div>
      <DialogEnd
        isNew={!saved}
        isReady={!save.isPending && !upload.isPending && draft.files.length > 0}
        close={close}
      />
    </form>
  );
}
