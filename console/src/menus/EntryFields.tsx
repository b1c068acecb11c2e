import { useQuery } from "@tanstack/react-query";

import { type ActionDraft, answer, api, type EntryDraft, type Fault } from "../api/client";
import { useImages } from "../images/useImages";
import { Prose } from "../parts/Prose";
import { type ActionKind, ACTIONS, fresh, kindOf } from "./actions";
import { Entries } from "./Entries";
import { useMenus } from "./useMenus";

/** The fields of one entry, each with what is wrong beside it. */
export function EntryFields(props: {
  entry: EntryDraft;
  place: string;
  faults: Fault[];
  change: (entry: EntryDraft) => void;
}) {
  const { entry, place, faults, change } = props;
  const set = (part: Partial<EntryDraft>) => {
    change({ ...entry, ...part });
  };
  const said = (field: string) => faults.filter((fault) => fault.place === `${place}.${field}`);
  const text = (field: "key" | "title" | "shown_if", label: string, hint: string) => (
    <Labelled label={label} faults={said(field)}>
      <input
        className={`input input-sm w-full ${field === "title" ? "" : "font-mono"}`}
        aria-label={label}
        placeholder={hint}
        value={entry[field] ?? ""}
        onChange={(event) => {
          const value = event.target.value;
          set({ [field]: field === "shown_if" && value === "" ? null : value });
        }}
      />
    </Labelled>
  );
  return (
    <div className="space-y-1 px-2 py-2">
      {text("title", "Title", "as in Install on {{ name }}")}
      {text("key", "Key", "as in install")}
      <Labelled label="Action" faults={[]}>
        <select
          className="select select-sm w-full"
          aria-label="Action"
          value={kindOf(entry.action)}
          onChange={(event) => {
            set({ action: fresh(event.target.value as ActionKind) });
          }}
        >
          {Object.entries(ACTIONS).map(([kind, words]) => (
            <option key={kind} value={kind}>
              {words}
            </option>
          ))}
        </select>
      </Labelled>
      <Action
        action={entry.action}
        place={place}
        faults={faults}
        change={(action) => {
          set({ action });
        }}
      />
      {text("shown_if", "Shown if", "as in 'kiosk' in labels and architecture == 'uefi-x64'")}
      <Labelled label="Phrase" faults={said("guard")}>
        <span className="flex items-center gap-2">
          <input
            className="input input-sm w-full"
            aria-label="Phrase"
            autoComplete="off"
            placeholder={entry.keep_guard ? "stays as it is" : "none: nothing is asked for"}
            value={entry.guard ?? ""}
            onChange={(event) => {
              set({ guard: event.target.value || null, keep_guard: false });
            }}
          />
          {entry.keep_guard && (
            <button
              type="button"
              className="btn btn-xs"
              onClick={() => {
                set({ keep_guard: false });
              }}
            >
              Take it away
            </button>
          )}
        </span>
      </Labelled>
      {kindOf(entry.action) === "image" && (
        <Labelled label="Parameters" faults={faults.filter((fault) => fault.place.startsWith(`${place}.parameters`))}>
          <textarea
            className="textarea textarea-sm w-full font-mono"
            aria-label="Parameters"
            rows={2}
            placeholder="a kernel parameter a line, as in ip={{ address }}"
            value={(entry.parameters ?? []).join("\n")}
            onChange={(event) => {
              set({ parameters: event.target.value === "" ? [] : event.target.value.split("\n") });
            }}
          />
        </Labelled>
      )}
    </div>
  );
}

function Action(props: { action: ActionDraft; place: string; faults: Fault[]; change: (action: ActionDraft) => void }) {
  const { action, place, change } = props;
  const own = props.faults.filter((fault) => fault.place === `${place}.action`);
  if (typeof action === "string") {
    return null;
  }
  if ("entries" in action) {
    return (
      <div className="pl-4">
        <Entries
          entries={action.entries}
          place={`${place}.action.entries`}
          faults={props.faults}
          change={(entries) => {
            change({ entries });
          }}
        />
      </div>
    );
  }
  if ("image" in action) {
    return <ImageChoice image={action.image} faults={own} change={change} />;
  }
  if ("menu" in action) {
    return <MenuChoice menu={action.menu} faults={own} change={change} />;
  }
  if ("burn-in" in action) {
    return (
      <Labelled label="Minutes" faults={props.faults.filter((fault) => fault.place.startsWith(`${place}.action`))}>
        <input
          type="number"
          min={1}
          className="input input-sm w-24"
          aria-label="Minutes of the burn-in"
          value={action["burn-in"].minutes ?? 30}
          onChange={(event) => {
            change({ "burn-in": { ...action["burn-in"], minutes: Number.parseInt(event.target.value, 10) || 0 } });
          }}
        />
      </Labelled>
    );
  }
  return (
    <Labelled label="Root path" faults={own}>
      <input
        className="input input-sm w-full font-mono"
        aria-label="Root path"
        value={action["network-disk"]}
        onChange={(event) => {
          change({ "network-disk": event.target.value });
        }}
      />
    </Labelled>
  );
}

function ImageChoice(props: {
  image: { name: string; answers?: string | null };
  faults: Fault[];
  change: (action: ActionDraft) => void;
}) {
  const images = useImages();
  const answers = useQuery({ queryKey: ["answers"], queryFn: async () => answer(await api.GET("/api/v1/answers")) });
  const { image } = props;
  const chosen = images.data?.find((known) => known.name === image.name);
  return (
    <Labelled label="Image" faults={props.faults}>
      <select
        className="select select-sm w-full"
        aria-label="Image"
        value={image.name}
        onChange={(event) => {
          props.change({ image: { name: event.target.value } });
        }}
      >
        <option value="">choose one</option>
        {(images.data ?? [])
          .filter((known) => known.kind !== "disk")
          .map((known) => (
            <option key={known.name} value={known.name}>
              {known.title} ({known.kind})
            </option>
          ))}
      </select>
      {chosen?.kind === "installer" && (
        <select
          className="select select-sm mt-1 w-full"
          aria-label="Answers"
          value={image.answers ?? ""}
          onChange={(event) => {
            props.change({ image: { name: image.name, answers: event.target.value || null } });
          }}
        >
          <option value="">without answers: it asks the person</option>
          {(answers.data ?? []).map((known) => (
            <option key={known.name} value={known.name}>
              with answers {known.name}
            </option>
          ))}
        </select>
      )}
    </Labelled>
  );
}

function MenuChoice(props: { menu: string; faults: Fault[]; change: (action: ActionDraft) => void }) {
  const menus = useMenus();
  return (
    <Labelled label="Menu" faults={props.faults}>
      <select
        className="select select-sm w-full"
        aria-label="Menu"
        value={props.menu}
        onChange={(event) => {
          props.change({ menu: event.target.value });
        }}
      >
        <option value="">choose one</option>
        {(menus.data ?? []).map((known) => (
          <option key={known.name} value={known.name}>{known.name}</option>
        ))}
      </select>
    </Labelled>
  );
}

function Labelled(props: { label: string; faults: Fault[]; children: React.ReactNode }) {
  return (
    <div className="grid gap-x-3 sm:grid-cols-[5.5rem_minmax(0,1fr)]">
      <span className="pt-1 text-base-content/75">{props.label}</span>
      <div>
        {props.children}
        {props.faults.map((fault) => (
          <p key={fault.place + fault.what} className="border-l-4 border-error pl-2 text-error">
            {fault.what}. <Prose text={fault.fix} />
          </p>
        ))}
      </div>
    </div>
  );
}
