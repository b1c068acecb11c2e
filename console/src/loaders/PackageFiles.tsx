import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { answer, api, type FileEntry } from "../api/client";
import { send } from "../images/upload";
import { Refusal } from "../parts/Faults";
import { Section } from "../parts/Section";
import { Answered } from "../parts/States";
import { FoundLoaders } from "./FoundLoaders";

/** Loaders in package files of this computer: for a host without internet access, or machines of another architecture. */
export function PackageFiles() {
  const queries = useQueryClient();
  const [packages, setPackages] = useState<FileEntry[]>([]);
  const upload = useMutation({
    mutationFn: async (files: File[]) => {
      const sent: FileEntry[] = [];
      for (const file of files) {
        sent.push(await send({ path: file.name, file }, () => undefined, new AbortController().signal));
      }
      return sent;
    },
    onSuccess: setPackages,
  });
  const found = useQuery({
    queryKey: ["packaged", packages],
    enabled: packages.length > 0,
    queryFn: async () => answer(await api.POST("/api/v1/packages/loaders", { body: { packages } })),
  });
  const add = useMutation({
    mutationFn: async (name: string) =>
      answer(
        await api.POST("/api/v1/packages/loaders/{name}", { params: { path: { name } }, body: { packages } }),
      ),
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Section title="From package files">
      <label className="mb-2 block max-w-3xl">
        Debian packages (.deb); the files of one loader may lie in several, as in shim-signed, grub-efi-arm64-signed and
        grub-efi-arm64-bin.
        <input
          type="file"
          multiple
          accept=".deb"
          className="file-input file-input-sm mt-1 block"
          aria-label="Package files"
          onChange={(event) => {
            upload.mutate([...(event.target.files ?? [])]);
          }}
        />
      </label>
      {upload.isPending && <p role="status">Sending them …</p>}
      <Refusal error={upload.error ?? add.error} title="Nothing was changed." />
      {packages.length > 0 && (
        <Answered query={found} rows={2}>
          {(all) =>
            all.length === 0 ? (
              <p>No loader is whole in these packages: choose all of them that it lies in.</p>
            ) : (
              <FoundLoaders label="Loaders in package files" loaders={all} busy={add.isPending} add={add.mutate} />
            )
          }
        </Answered>
      )}
    </Section>
  );
}
