import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { answer, api, type ArmJobs, edited, type JobTask } from "../api/client";
import { Dialog } from "../parts/Dialog";
import { Refusal } from "../parts/Faults";
import { Field, words } from "../parts/Form";

const PARTS = { memory: "memory", cpu: "processor", disks: "disks", network: "network" } as const;
type Part = keyof typeof PARTS;

/** Minutes after which work ends, unless it is said otherwise. */
const LIMITS: Partial<Record<JobTask["kind"], string>> = { command: "10", shell: "60" };

/** Machines that are named before they are only counted. */
const NAMED = 6;

/** Has work done on machines: on all that are named, or on none. */
export function ArmJob({ machines, close }: { machines: string[]; close: () => void }) {
  const queries = useQueryClient();
  const go = useNavigate();
  const settings = useQuery({ queryKey: ["settings"], queryFn: async () => edited(await api.GET("/api/v1/settings")) });
  const [who, setWho] = useState(machines.join(" "));
  const [kind, setKind] = useState<JobTask["kind"]>("burn-in");
  const [minutes, setMinutes] = useState("30");
  const [limit, setLimit] = useState("1440");
  const [without, setWithout] = useState<ReadonlySet<Part>>(new Set());
  const [command, setCommand] = useState("");
  const [disk, setDisk] = useState("");
  const [then, setThen] = useState("");
  const isAllowed = settings.data?.allow_commands === true;
  const whole = (text: string) => Math.max(0, Number.parseInt(text, 10) || 0);
  const task = (): JobTask => {
    switch (kind) {
      case "survey":
        return { kind };
      case "burn-in":
        return { kind, minutes: whole(minutes), limit_minutes: whole(limit), without: [...without] };
      case "command":
        return { kind, words: ["sh", "-c", command], limit_minutes: whole(limit) };
      case "shell":
        return { kind, limit_minutes: whole(limit) };
      case "locate":
        return { kind, minutes: whole(minutes), ...(disk.trim() !== "" && { disk: disk.trim() }) };
    }
  };
  const arm = useMutation({
    mutationFn: async () => {
      const body: ArmJobs = { machines: words(who), task: task(), ...(then !== "" && { then: then as NonNullable<ArmJobs["then"]> }) };
      return answer(await api.POST("/api/v1/jobs", { body }));
    },
    onSuccess: async (armed) => {
      close();
      await queries.invalidateQueries();
      const [first, ...rest] = armed;
      await go(first !== undefined && rest.length === 0 ? `/jobs/${first.number}` : "/jobs");
    },
  });
  const many = machines.length > NAMED;
  return (
    <Dialog title={machines.length === 1 ? `Arm a job on ${machines[0] ?? ""}` : "Arm a job"} close={close}>
      <form
        className="space-y-3"
        aria-label="Job"
        onSubmit={(event) => {
          event.preventDefault();
          arm.mutate();
        }}
      >
        {many ? (
          <p>{machines.slice(0, NAMED).join(", ")} and {machines.length - NAMED} more</p>
        ) : (
          <Field field="machines" label="Machines" hint="By name, separated by blanks." error={arm.error}>
            <input className="input w-full" value={who} onChange={(event) => { setWho(event.target.value); }} />
          </Field>
        )}
        <Field field="kind" label="What is done" error={arm.error}>
          <select
            className="select w-full"
            value={kind}
            onChange={(event) => {
              const next = event.target.value as JobTask["kind"];
              setKind(next);
              setLimit(LIMITS[next] ?? "1440");
              setMinutes(next === "locate" ? "15" : "30");
            }}
          >
            <option value="burn-in">burn-in: work it hard, and see whether it makes mistakes</option>
            <option value="survey">survey: measure it anew</option>
            <option value="locate">locate: show people in the hall where it is</option>
            <option value="command" disabled={!isAllowed}>
              {isAllowed ? "command: run one, and record what it writes" : "command: not allowed by the site's settings"}
            </option>
            <option value="shell" disabled={!isAllowed}>
              {isAllowed ? "shell: a terminal here, recorded" : "shell: not allowed by the site's settings"}
            </option>
          </select>
        </Field>
        {kind === "burn-in" && (
          <>
            <div className="grid gap-3 sm:grid-cols-2">
              <Field field="task.minutes" label="Minutes of memory and processor" error={arm.error}>
                <input type="number" min={1} className="input w-full" value={minutes} onChange={(event) => { setMinutes(event.target.value); }} />
              </Field>
              <Field field="task.limit_minutes" label="Minutes at most" hint="A disk that is not read by then fails." error={arm.error}>
                <input type="number" min={1} className="input w-full" value={limit} onChange={(event) => { setLimit(event.target.value); }} />
              </Field>
            </div>
            <fieldset className="flex flex-wrap gap-x-4 gap-y-1">
              <legend className="text-base-content/70">What is tested</legend>
              {(Object.entries(PARTS) as [Part, string][]).map(([part, name]) => (
                <label key={part} className="flex items-center gap-2">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-sm"
                    checked={!without.has(part)}
                    onChange={(event) => {
                      const next = new Set(without);
                      if (event.target.checked) {
                        next.delete(part);
                      } else {
                        next.add(part);
                      }
                      setWithout(next);
                    }}
                  />
                  {name}
                </label>
              ))}
            </fieldset>
          </>
        )}
        {kind === "command" && (
          <>
            <Field field="task.words" label="Command" hint="Given to a shell, as root, on the machine." error={arm.error}>
              <input className="input w-full font-mono text-xs" placeholder="lsblk -f" value={command} onChange={(event) => { setCommand(event.target.value); }} />
            </Field>
            <Field field="task.limit_minutes" label="Minutes at most" error={arm.error}>
              <input type="number" min={1} className="input w-32" value={limit} onChange={(event) => { setLimit(event.target.value); }} />
            </Field>
          </>
        )}
        {kind === "shell" && (
          <Field field="task.limit_minutes" label="Minutes at most" hint="A shell of root's, recorded." error={arm.error}>
            <input type="number" min={1} className="input w-32" value={limit} onChange={(event) => { setLimit(event.target.value); }} />
          </Field>
        )}
        {kind === "locate" && (
          <div className="grid gap-3 sm:grid-cols-2">
            <Field field="task.minutes" label="Minutes" hint="Its lights and its screens." error={arm.error}>
              <input type="number" min={1} className="input w-full" value={minutes} onChange={(event) => { setMinutes(event.target.value); }} />
            </Field>
            <Field field="task.disk" label="Only the light of a disk" hint="By serial number; may be left out." error={arm.error}>
              <input className="input w-full" value={disk} onChange={(event) => { setDisk(event.target.value); }} />
            </Field>
          </div>
        )}
        <Field field="then" label="Afterwards" error={arm.error}>
          <select className="select w-full" value={then} onChange={(event) => { setThen(event.target.value); }}>
            <option value="">as before: it waits on if it waited, else it restarts</option>
            <option value="restart">restart</option>
            <option value="power-off">power off</option>
          </select>
        </Field>
        <p className="text-base-content/75">
          A machine that runs the survey begins at once; another one at its next network boot.
        </p>
        <Refusal error={arm.error} title="Nothing was armed." />
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={close}>
            Close
          </button>
          <button type="submit" className="btn btn-sm btn-primary" disabled={arm.isPending}>
            Arm
          </button>
        </div>
      </form>
    </Dialog>
  );
}
