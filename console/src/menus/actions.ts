import type { ActionDraft, EntryDraft } from "../api/client";

/** What an entry can do, as a person calls it. */
export const ACTIONS = {
  "local-disk": "start from the local disk",
  image: "start an image",
  entries: "show further entries",
  menu: "show another menu",
  "network-disk": "start from a network disk",
  survey: "survey the machine and show what is in it",
  "burn-in": "burn-in",
  "firmware-setup": "open the firmware's set-up",
  restart: "restart",
  "power-off": "power off",
} as const;

export type ActionKind = keyof typeof ACTIONS;

export function kindOf(action: ActionDraft): ActionKind {
  if (typeof action === "string") {
    return action;
  }
  if ("image" in action) {
    return "image";
  }
  if ("entries" in action) {
    return "entries";
  }
  if ("burn-in" in action) {
    return "burn-in";
  }
  return "menu" in action ? "menu" : "network-disk";
}

/** An action of a kind, with nothing said of it yet. */
export function fresh(kind: ActionKind): ActionDraft {
  switch (kind) {
    case "image":
      return { image: { name: "" } };
    case "entries":
      return { entries: [newEntry([])] };
    case "menu":
      return { menu: "" };
    case "burn-in":
      return { "burn-in": { minutes: 30 } };
    case "network-disk":
      return { "network-disk": "iscsi:" };
    default:
      return kind;
  }
}

/** A new entry whose key its neighbours do not have. */
export function newEntry(neighbours: EntryDraft[]): EntryDraft {
  const taken = new Set(neighbours.map((entry) => entry.key));
  let number = neighbours.length + 1;
  while (taken.has(`entry-${number}`)) {
    number += 1;
  }
  return { key: `entry-${number}`, title: "New entry", action: "local-disk" };
}
