import type { SubnetDraft } from "../api/client";
import { pairLines, pairs } from "../parts/Form";

/** A subnet as a form holds it: everything but choices is text, lists are joined by commas, options stand on lines. */
export interface Fields {
  name: string;
  network: string;
  mode: "lease" | "proxy" | "off";
  router: string;
  dns: string;
  domain: string;
  ntp: string;
  lease_secs: string;
  pools: string;
  exclusions: string;
  interface: string;
  vlan: string;
  relays: string;
  newcomers: "unanswered" | "nothing" | "menu" | "survey";
  probe: boolean;
  authoritative: boolean;
  head_start_ms: string;
  identify: "by mode" | "address" | "first-claim";
  http_boot: "http" | "https";
  menu: string;
  options: string;
}

/** A form for a subnet that is not there yet. */
export const FRESH: Fields = {
  name: "",
  network: "",
  mode: "lease",
  router: "",
  dns: "",
  domain: "",
  ntp: "",
  lease_secs: "28800",
  pools: "",
  exclusions: "",
  interface: "",
  vlan: "",
  relays: "",
  newcomers: "nothing",
  probe: true,
  authoritative: true,
  head_start_ms: "0",
  identify: "by mode",
  http_boot: "http",
  menu: "",
  options: "",
};

export function toFields(draft: SubnetDraft): Fields {
  const list = (values: string[] | undefined) => (values ?? []).join(", ");
  return {
    name: draft.name,
    network: draft.network,
    mode: draft.mode ?? FRESH.mode,
    router: draft.router ?? "",
    dns: list(draft.dns),
    domain: draft.domain ?? "",
    ntp: list(draft.ntp),
    lease_secs: (draft.lease_secs ?? 28800).toString(),
    pools: list(draft.pools),
    exclusions: list(draft.exclusions),
    interface: draft.interface ?? "",
    vlan: draft.vlan?.toString() ?? "",
    relays: list(draft.relays),
    newcomers: draft.newcomers ?? FRESH.newcomers,
    probe: draft.probe ?? true,
    authoritative: draft.authoritative ?? true,
    head_start_ms: (draft.head_start_ms ?? 0).toString(),
    identify: draft.identify ?? FRESH.identify,
    http_boot: draft.http_boot ?? FRESH.http_boot,
    menu: draft.menu ?? "",
    options: pairLines(draft.options ?? {}),
  };
}

/** What is sent. Texts that are no numbers become numbers that the service refuses with its own words. */
export function toDraft(fields: Fields): SubnetDraft {
  const list = (text: string) =>
    text
      .split(/[\s,]+/)
      .map((part) => part.trim())
      .filter((part) => part !== "");
  const maybe = (text: string) => (text.trim() === "" ? null : text.trim());
  const number = (text: string) => {
    const value = Number(text);
    return Number.isInteger(value) ? value : -1;
  };
  return {
    name: fields.name.trim(),
    network: fields.network.trim(),
    mode: fields.mode,
    router: maybe(fields.router),
    dns: list(fields.dns),
    domain: maybe(fields.domain),
    ntp: list(fields.ntp),
    lease_secs: number(fields.lease_secs),
    pools: list(fields.pools),
    exclusions: list(fields.exclusions),
    interface: maybe(fields.interface),
    vlan: fields.vlan.trim() === "" ? null : Math.max(0, number(fields.vlan)),
    relays: list(fields.relays),
    newcomers: fields.newcomers,
    probe: fields.probe,
    authoritative: fields.authoritative,
    head_start_ms: number(fields.head_start_ms),
    identify: fields.identify === "by mode" ? null : fields.identify,
    http_boot: fields.http_boot,
    menu: maybe(fields.menu),
    options: pairs(fields.options),
  };
}
