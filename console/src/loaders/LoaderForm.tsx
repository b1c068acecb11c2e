import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { answer, api, type FileEntry, type LoaderView } from "../api/client";
import { send } from "../images/upload";
import { Dialog } from "../parts/Dialog";
import { Refusal } from "../parts/Faults";
import { Field, OtherFaults } from "../parts/Form";

const FIELDS = ["name", "architecture", "class", "user_class", "boot_file", "http", "language", "files"];
const ARCHITECTURES = ["bios", "uefi-x64", "uefi-x86", "uefi-arm64", "uefi-arm32"];
const HTTP: [string, string][] = [
  ["none", "not by HTTP"],
  ["port-80", "on port 80 only"],
  ["any-port", "on any port"],
];

/** Adds a loader from files of this computer, or changes one; what is left open is recognised in the files. */
export function LoaderForm({ saved, close }: { saved: LoaderView | undefined; close: () => void }) {
  const [name, setName] = useState(saved?.name ?? "");
  const [architecture, setArchitecture] = useState(saved?.architecture ?? "");
  const [vendorClass, setVendorClass] = useState(saved?.class ?? "");
  const [userClass, setUserClass] = useState(saved?.user_class ?? "");
  const [files, setFiles] = useState<FileEntry[]>(saved?.files ?? []);
  const [bootFile, setBootFile] = useState(saved?.boot_file ?? "");
  const [http, setHttp] = useState<string>(saved?.http ?? "");
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
      setFiles(sent);
      setBootFile(sent[0]?.path ?? "");
    },
  });
  const save = useMutation({
    mutationFn: async () => {
      const body = {
        name: name.trim(),
        architecture: architecture || null,
        class: vendorClass.trim() || null,
        user_class: userClass.trim() || null,
        boot_file: bootFile,
        http: (http || null) as LoaderView["http"] | null,
        language: saved?.language ?? null,
        files,
      };
      return answer(
        saved
          ? await api.PUT("/api/v1/loaders/{name}", { params: { path: { name: saved.name } }, body })
          : await api.POST("/api/v1/loaders", { body }),
      );
    },
    onSuccess: async () => {
      await queries.invalidateQueries();
      close();
    },
  });
  return (
    <Dialog title={saved ? `Change ${saved.name}` : "Add a loader from files"} close={close}>
      <form
        className="grid gap-3 sm:grid-cols-2"
        aria-label="Loader"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate();
        }}
      >
        {!saved && (
          <Field field="name" label="Name" error={save.error}>
            <input className="input w-full" placeholder="x64-signed" value={name} onChange={({ target }) => { setName(target.value); }} />
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
          <select className="select w-full" value={bootFile} onChange={({ target }) => { setBootFile(target.value); }}>
            {files.length === 0 && <option value="">choose files first</option>}
            {files.map(({ path }) => (
              <option key={path}>{path}</option>
            ))}
          </select>
        </Field>
        <Field field="architecture" label="Firmware" error={save.error}>
          <select className="select w-full" value={architecture} onChange={({ target }) => { setArchitecture(target.value); }}>
            <option value="">as recognised in the boot file</option>
            {ARCHITECTURES.map((one) => (
              <option key={one}>{one}</option>
            ))}
          </select>
        </Field>
        <Field field="http" label="Fetches by HTTP" error={save.error}>
          <select className="select w-full" value={http} onChange={({ target }) => { setHttp(target.value); }}>
            <option value="">as recognised</option>
            {HTTP.map(([value, text]) => (
              <option key={value} value={value}>
                {text}
              </option>
            ))}
          </select>
        </Field>
        <Field field="class" label="Vendor class (option 60)" hint="Only for clients whose class begins so." error={save.error}>
          <input className="input w-full" placeholder="all" value={vendorClass} onChange={({ target }) => { setVendorClass(target.value); }} />
        </Field>
        <Field field="user_class" label="User class (option 77)" hint="Only for clients with this class." error={save.error}>
          <input className="input w-full" placeholder="all" value={userClass} onChange={({ target }) => { setUserClass(target.value); }} />
        </Field>
        <div className="sm:col-span-2">
          {upload.isPending && <p role="status">Sending the files …</p>}
          <Refusal error={upload.error} title="The files were not sent." />
          <OtherFaults fields={FIELDS} error={save.error} />
        </div>
        <div className="flex justify-end gap-2 sm:col-span-2">
          <button type="button" className="btn btn-sm" onClick={close}>
            Cancel
          </button>
          <button type="submit" className="btn btn-primary btn-sm" disabled={save.isPending || upload.isPending || files.length === 0}>
            {saved ? "Save" : "Add"}
          </button>
        </div>
      </form>
    </Dialog>
  );
}
