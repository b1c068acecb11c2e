import { useMutation, useQueryClient } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useState } from "react";
import { useNavigate } from "react-router";

import { answer, api } from "../api/client";
import { ArmJob } from "../jobs/ArmJob";
import { Dialog } from "../parts/Dialog";
import { Refusal } from "../parts/Faults";
import { download } from "../parts/download";
import { ChangeDialog, type What } from "./ChangeDialog";
import { exported } from "./exported";
import { namesOf, type Selection } from "./selection";
import type { Filter } from "./useMachines";

/** What can be done with the machines that are selected. */
export function ActionBar(props: { selection: Selection; count: number; filter: Filter; clear: () => void }) {
  const { selection, count, filter, clear } = props;
  const [open, setOpen] = useState<{ what: What | "remove" | "job"; machines: string[] }>();
  const go = useNavigate();
  const act = useMutation({ mutationFn: async (then: (names: string[]) => unknown) => then(await namesOf(selection, filter)) });
  const ask = (what: What | "remove" | "job") => {
    act.mutate((machines) => {
      setOpen({ what, machines });
    });
  };
  const lead = (path: string) => {
    act.mutate((machines) => go(path, { state: { machines } }));
  };
  const button = (name: string, press: () => void, tone = "") => (
    <button type="button" className={`btn btn-sm ${tone}`} disabled={act.isPending} onClick={press}>
      {name}
    </button>
  );
  return (
    <div
      role="toolbar"
      aria-label="Actions for the selection"
      className="sticky bottom-0 z-2 flex flex-wrap items-center gap-2 border-t-2 border-accent bg-base-200 px-3 py-2"
    >
      <span role="status" className="mr-2 font-semibold">
        {count} selected
      </span>
      {button("Arm", () => { lead("/arm"); }, "btn-primary")}
      {button("Job", () => { ask("job"); })}
      {button("Labels", () => { ask("labels"); })}
      {button("Detail", () => { ask("detail"); })}
      {button("Default boot", () => { ask("default_boot"); })}
      {button("Menu", () => { ask("menu"); })}
      {button("Name by pattern", () => { lead("/naming"); })}
      {button("Export", () => {
        act.mutate(async (machines) => {
          download("machines.csv", "text/csv", await exported(machines));
        });
      })}
      {button("Remove", () => { ask("remove"); }, "btn-error btn-outline")}
      <button type="button" className="btn btn-ghost btn-sm btn-square ml-auto" aria-label="Clear the selection" onClick={clear}>
        <X className="size-4" />
      </button>
      <Refusal error={act.error} title="It did not work." />
      {open !== undefined && open.what !== "remove" && open.what !== "job" && (
        <ChangeDialog
          what={open.what}
          machines={open.machines}
          close={() => {
            setOpen(undefined);
          }}
        />
      )}
      {open?.what === "job" && (
        <ArmJob
          machines={open.machines}
          close={() => {
            setOpen(undefined);
          }}
        />
      )}
      {open?.what === "remove" && (
        <RemoveDialog
          machines={open.machines}
          close={() => {
            setOpen(undefined);
          }}
          removed={clear}
        />
      )}
    </div>
  );
}

/** Machines that are named before they are removed. */
const NAMED = 8;

function RemoveDialog({ machines, close, removed }: { machines: string[]; close: () => void; removed: () => void }) {
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: async () => answer(await api.POST("/api/v1/machines/remove", { body: { machines } })),
    onSuccess: async () => {
      removed();
      close();
      await queries.invalidateQueries();
    },
  });
  const rest = machines.length - NAMED;
  return (
    <Dialog title={machines.length === 1 ? `Remove ${machines[0] ?? ""}?` : `Remove ${machines.length} machines?`} close={close}>
      <p>
        {machines.slice(0, NAMED).join(", ")}
        {rest > 0 && ` and ${rest} more`}
      </p>
      <p className="mt-2 text-base-content/75">
        They become unknown machines to their subnets. Their installs stay on record; details, labels and settings of their
        own are lost.
      </p>
      <Refusal error={remove.error} title="None was removed." />
      <div className="mt-3 flex justify-end gap-2">
        <button type="button" className="btn btn-sm" onClick={close}>
          Keep them
        </button>
        <button
          type="button"
          className="btn btn-sm btn-error"
          disabled={remove.isPending}
          onClick={() => {
            remove.mutate();
          }}
        >
          Remove
        </button>
      </div>
    </Dialog>
  );
}
