import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";

import { answer, api } from "../api/client";
import { useImages } from "../images/useImages";
import { useRested } from "../parts/rested";
import { ACTIONS, GROUPS, SETTINGS } from "./pages";

/** Machines that are offered at a time. */
const MACHINES = 8;

interface Found {
  kind: "page" | "action" | "machine" | "image";
  name: string;
  path: string;
}

const PAGES: Found[] = [...GROUPS.flatMap((group) => group.pages), SETTINGS].map(({ name, path }) => ({
  kind: "page",
  name,
  path,
}));
const DONE_HERE: Found[] = ACTIONS.map(({ name, path }) => ({ kind: "action", name, path }));

/** Opens with Ctrl-K; gives whether it is open, and what opens and closes it. */
export function usePalette(): [boolean, (open: boolean) => void] {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() === "k" && (event.ctrlKey || event.metaKey)) {
        event.preventDefault();
        setOpen(true);
      }
    };
    window.addEventListener("keydown", press);
    return () => {
      window.removeEventListener("keydown", press);
    };
  }, []);
  return [open, setOpen];
}

/** Finds any machine, image, page or action by a part of its name. */
export function Palette({ close }: { close: () => void }) {
  const dialog = useRef<HTMLDialogElement>(null);
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const go = useNavigate();
  const found = useFound(text);
  useEffect(() => {
    dialog.current?.showModal();
  }, []);
  const choose = (one: Found | undefined) => {
    if (one) {
      close();
      void go(one.path);
    }
  };
  return (
    <dialog
      ref={dialog}
      aria-label="Find"
      onClose={close}
      className="modal modal-top"
    >
      <div className="modal-box mx-auto mt-16 w-[min(36rem,94vw)] rounded-box border border-base-300 p-0">
        <form
          onSubmit={(event) => {
            event.preventDefault();
            choose(found[at]);
          }}
        >
          <input
            // It opened because somebody wants to type here.
            // eslint-disable-next-line jsx-a11y/no-autofocus
            autoFocus
            role="combobox"
            aria-expanded="true"
            aria-controls="found"
            aria-activedescendant={found[at] ? `found-${at}` : undefined}
            aria-label="A machine, image, page or action"
            placeholder="A machine, image, page or action"
            className="w-full border-b border-base-300 bg-transparent px-4 py-3 outline-none"
            value={text}
            onChange={(event) => {
              setText(event.target.value);
              setAt(0);
            }}
            onKeyDown={(event) => {
              const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
              if (step !== 0) {
                event.preventDefault();
                setAt(Math.max(0, Math.min(found.length - 1, at + step)));
              }
            }}
          />
        </form>
        <div id="found" role="listbox" aria-label="Found" className="max-h-96 overflow-y-auto py-1">
          {found.map((one, index) => (
            // The keys are those of the field above, which keeps the focus.
            // eslint-disable-next-line jsx-a11y/click-events-have-key-events
            <div
              key={one.kind + one.path}
              id={`found-${index}`}
              role="option"
              aria-selected={index === at}
              tabIndex={-1}
              className={`flex cursor-pointer items-baseline justify-between gap-3 px-4 py-1.5 ${index === at ? "bg-base-300" : "hover:bg-base-200"}`}
              onClick={() => {
                choose(one);
              }}
            >
              <span className="truncate">{one.name}</span>
              <span className="text-xs text-base-content/70">{one.kind}</span>
            </div>
          ))}
        </div>
        {found.length === 0 && <p className="px-4 pb-4 text-base-content/75">Nothing has this in its name.</p>}
      </div>
      <form method="dialog" className="modal-backdrop">
        <button aria-label="Close">close</button>
      </form>
    </dialog>
  );
}

function useFound(text: string): Found[] {
  const wanted = useRested(text.trim().toLowerCase());
  const images = useImages();
  const machines = useQuery({
    queryKey: ["found", wanted],
    enabled: wanted !== "",
    queryFn: async () => {
      const query = { text: wanted, sort: "name" as const, limit: MACHINES };
      return answer(await api.GET("/api/v1/machines", { params: { query } })).machines;
    },
  });
  const matches = ({ name }: { name: string }) => name.toLowerCase().includes(text.trim().toLowerCase());
  const named = (kind: "machine" | "image", name: string): Found => ({
    kind,
    name,
    path: `/${kind}s/${encodeURIComponent(name)}`,
  });
  return [
    ...(wanted === "" ? [] : (machines.data ?? []).map(({ name }) => named("machine", name))),
    ...(wanted === "" ? [] : (images.data ?? []).filter(matches).map(({ name }) => named("image", name))),
    ...PAGES.filter(matches),
    ...DONE_HERE.filter(matches),
  ];
}
