import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useState } from "react";

import { answer, api, done, type LoaderView } from "../api/client";
import { Refusal } from "../parts/Faults";
import { NameActions } from "../parts/NameActions";
import { Section } from "../parts/Section";
import { Answered, Empty } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { FoundLoaders } from "./FoundLoaders";
import { LoaderForm } from "./LoaderForm";
import { PackageFiles } from "./PackageFiles";

const HTTP = { none: "none", "port-80": "port 80", "any-port": "any port" };

const clients = (loader: LoaderView) =>
  [loader.class && `class ${loader.class}…`, loader.user_class && `user class ${loader.user_class}`]
    .filter(Boolean)
    .join(", ") || "all";

/** The loaders in use, and those in the operating system's packages. */
export function LoadersPage() {
  const queries = useQueryClient();
  const [form, setForm] = useState<{ change: string | undefined }>();
  const loaders = useQuery({ queryKey: ["loaders"], queryFn: async () => answer(await api.GET("/api/v1/loaders")) });
  const packaged = useQuery({
    queryKey: ["packaged"],
    queryFn: async () => answer(await api.GET("/api/v1/loaders/packaged")),
  });
  const params = (name: string) => ({ params: { path: { name } } });
  const add = useMutation({
    mutationFn: async (name: string) => answer(await api.POST("/api/v1/loaders/packaged/{name}", params(name))),
    onSettled: () => queries.invalidateQueries(),
  });
  const own: Column<LoaderView>[] = [
    {
      name: "Name",
      value: (loader) => loader.name,
      cell: (loader) => (
        <>
          <span className="font-medium">{loader.name}</span>
          <span className="block text-xs text-base-content/70">{loader.boot_file}</span>
        </>
      ),
    },
    { name: "Firmware", value: (loader) => loader.architecture },
    { name: "Clients", show: "hidden lg:table-cell", value: clients },
    { name: "Program", show: "hidden sm:table-cell", value: (loader) => loader.facts.program?.value ?? "not recognised" },
    { name: "Menu language", show: "hidden lg:table-cell", value: (loader) => loader.language },
    { name: "HTTP", show: "hidden lg:table-cell", value: (loader) => HTTP[loader.http] },
    {
      name: "Signed by",
      show: "hidden lg:table-cell",
      value: (loader) => loader.facts.signers.join(", ") || "not signed",
    },
    {
      name: "Action",
      value: () => "",
      cell: (loader) => (
        <span className="flex gap-1">
          <button
            type="button"
            className="btn btn-xs"
            aria-label={`Change ${loader.name}`}
            onClick={() => {
              setForm({ change: loader.name });
            }}
          >
            Change
          </button>
          <NameActions
            noun="loader"
            name={loader.name}
            small
            page={() => "/loaders"}
            remove={async () => {
              done(await api.DELETE("/api/v1/loaders/{name}", params(loader.name)));
            }}
            lost={`Firmware of kind ${loader.architecture} gets an address and nothing to boot, until another loader is added.`}
          />
        </span>
      ),
    },
  ];
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex items-center gap-4">
        <h1 className="text-lg font-semibold">Loaders</h1>
        <button
          type="button"
          className="btn btn-primary btn-sm"
          onClick={() => {
            setForm({ change: undefined });
          }}
        >
          <Plus className="size-4" aria-hidden /> Add from files
        </button>
      </div>
      {form && (
        <LoaderForm
          change={form.change}
          close={() => {
            setForm(undefined);
          }}
        />
      )}
      <Refusal error={add.error} title="Nothing was changed." />
      <Answered query={loaders} rows={3}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="There is no loader, so no machine can boot">
              Add one from the packages below, or with <code>lastmile loader add</code>.
            </Empty>
          ) : (
            <Table label="Loaders" rows={all} columns={own} keyOf={(loader) => loader.name} />
          )
        }
      </Answered>
      <div className="mt-6">
        <Section title="Packages on this host">
          <Answered query={packaged} rows={2}>
            {(all) =>
              all.length === 0 ? (
                <p>
                  None. Debian&apos;s are shim-signed, grub-efi-amd64-signed, grub-efi-amd64-bin, pxelinux and
                  syslinux-common.
                </p>
              ) : (
                <FoundLoaders label="Packaged loaders" loaders={all} busy={add.isPending} add={add.mutate} />
              )
            }
          </Answered>
        </Section>
        <PackageFiles />
      </div>
    </div>
  );
}
