import { useSearchParams } from "react-router";

import type { FactsView, SurveyRow } from "../api/client";
import { Pairs } from "../parts/Pairs";
import { Section } from "../parts/Section";
import { size } from "../parts/size";
import { Answered, Empty } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { Ago, When } from "../parts/Time";
import { Against } from "./Against";
import { Changes } from "./Changes";
import { useFacts, useSurveys } from "./useFacts";

/** What surveys measured of a machine or a newcomer; which survey is shown is part of the address. */
export function FactsPanel({ who }: { who: string }) {
  const [params] = useSearchParams();
  const surveys = useSurveys(who);
  return (
    <Answered query={surveys} rows={6}>
      {(all) =>
        all.length === 0 ? (
          <Empty title="It was never surveyed">
            Machines that boot the survey report their hardware: unknown ones where the subnet says so, others from a menu entry that starts
            it.
          </Empty>
        ) : (
          <>
            <Shown who={who} boot={params.get("survey")} />
            <History who={who} surveys={all} />
            <Against who={who} />
          </>
        )
      }
    </Answered>
  );
}

function Shown({ who, boot }: { who: string; boot: string | null }) {
  const facts = useFacts(who, boot);
  return (
    <Answered query={facts} rows={8}>
      {(view) => (
        <>
          {boot != null && (
            <p role="status" className="mb-3 border-l-4 border-accent pl-2">
              The survey of <When at={view.at} />, not the latest.
            </p>
          )}
          {view.faults.map((fault) => (
            <p key={fault} className="mb-3 border-l-4 border-warning pl-2">
              Not measured: {fault}
            </p>
          ))}
          <div className="grid gap-x-8 lg:grid-cols-2">
            <Computer view={view} />
            <Inside view={view} />
          </div>
          <Parts view={view} />
        </>
      )}
    </Answered>
  );
}

/** Words that are there, or a dash. */
function words(...all: (string | null | undefined)[]): string {
  return all.filter((word) => word != null && word !== "").join(" ") || "–";
}

/** A count and what is counted. */
function some(count: number, one: string): string {
  return count === 1 ? `1 ${one}` : `${count} ${one}s`;
}

/** A link's speed in the unit that people say. */
function speed(mbit: number | null): string {
  if (mbit == null) {
    return "up";
  }
  return mbit >= 1000 ? `${mbit / 1000} Gbit/s` : `${mbit} Mbit/s`;
}

function Computer({ view }: { view: FactsView }) {
  const { system, board, chassis, firmware, start } = view.facts;
  return (
    <Section title="Computer">
      <Pairs
        pairs={[
          ["Product", words(system.vendor, system.product, system.version)],
          ["Serial", words(system.serial)],
          ["UUID", <span key="uuid" className="font-mono text-xs">{words(system.uuid)}</span>],
          ["Board", words(board.vendor, board.product, board.serial)],
          ["Chassis", words(chassis.vendor, chassis.serial, chassis.asset_tag)],
          ["Firmware", words(firmware.vendor, firmware.version, firmware.date)],
          [
            "Started by",
            words(
              start.mode === "uefi" ? "UEFI" : start.mode === "bios" ? "BIOS" : null,
              start.secure_boot == null ? null : start.secure_boot ? "with Secure Boot" : "without Secure Boot",
            ),
          ],
          ["Surveyed", <Ago key="at" at={view.at} />],
          [
            "Agent",
            view.agent == null ? (
              "not connected"
            ) : (
              <>
                {view.agent.doing || "waits"}, connected from {view.agent.from} since <When at={view.agent.since} />
              </>
            ),
          ],
        ]}
      />
    </Section>
  );
}

function Inside({ view }: { view: FactsView }) {
  const { cpu, memory, tpm, has_bmc, bmc } = view.facts;
  const slots = memory.slots.filter(({ mib }) => mib > 0);
  return (
    <Section title="Inside">
      <Pairs
        pairs={[
          ["Processors", words(cpu.model)],
          ["", [some(cpu.sockets, "socket"), some(cpu.cores, "core"), some(cpu.threads, "thread")].join(", ")],
          ["Abilities", cpu.flags.join(", ") || "–"],
          ["Memory", `${size(memory.mib * 1024 * 1024)}${memory.slots.length > 0 ? `, ${slots.length} of ${memory.slots.length} slots filled` : ""}`],
          ["TPM", tpm == null ? "none" : `version ${tpm.version ?? "not known"}`],
          ["BMC", bmc != null ? ofBmc(bmc) : has_bmc ? "speaks IPMI" : "none found"],
          ...Object.entries(view.found).map(([name, value]): [string, string] => [name, JSON.stringify(value)]),
        ]}
      />
    </Section>
  );
}

type Disk = FactsView["facts"]["disks"][number];
type Health = NonNullable<Disk["health"]>;
type Bmc = NonNullable<FactsView["facts"]["bmc"]>;

/** A management controller in a few words. */
function ofBmc({ ipmi, firmware, address, source, mac, vlan }: Bmc): string {
  const parts = [
    ipmi == null ? null : `IPMI ${ipmi}`,
    firmware == null ? null : `firmware ${firmware}`,
    address == null ? "no address" : `${address}${source == null ? "" : ` by ${source}`}`,
    mac,
    vlan == null ? null : `VLAN ${vlan}`,
  ];
  return parts.filter((part) => part != null).join(", ");
}

/** What a disk says of itself, the worst first. */
function OfHealth({ health }: { health: Health | null }) {
  if (health == null) {
    return "–";
  }
  const { is_well, used_percent, reallocated, unreadable, media_errors, power_on_hours, temperature } = health;
  const count = (number: number | null, what: string) => (number == null || number === 0 ? null : `${number} ${what}`);
  const counts = [
    used_percent == null ? null : `${used_percent} % used`,
    count(reallocated, "sectors replaced"),
    count(unreadable, "unreadable"),
    count(media_errors, "not corrected"),
    power_on_hours == null ? null : `${power_on_hours} h`,
    temperature == null ? null : `${temperature} °C`,
  ].filter((part) => part != null);
  return (
    <span>
      <span className={is_well === false ? "font-semibold text-error" : ""}>
        {is_well == null ? "does not say" : is_well ? "well" : "expects to fail"}
      </span>
      {counts.length > 0 && <span className="text-base-content/75">, {counts.join(", ")}</span>}
    </span>
  );
}

/** A part of a disk, or a disk that has none and holds something. */
interface Part {
  key: string;
  disk: string;
  name: string;
  size: number;
  purpose: string;
  holds: string;
  label: string;
}

function partsOf({ name: disk, size: bytes, layout: { table, partitions, volume } }: Disk): Part[] {
  const whole = volume == null ? [] : [{ key: disk, disk, name: "no table", size: bytes, purpose: "–", holds: volume.kind, label: volume.label ?? "–" }];
  const parts = partitions.map(({ number, size, kind, name, volume: within }) => ({
    key: `${disk} ${number}`,
    disk,
    name: `${(table ?? "").toUpperCase()} ${number}`,
    size,
    purpose: name == null || name === kind ? kind : `${kind}, ${name}`,
    holds: within?.kind ?? "–",
    label: within?.label ?? "–",
  }));
  return [...whole, ...parts];
}

const PARTS: Column<Part>[] = [
  { name: "Disk", value: ({ disk }) => disk },
  { name: "Partition", value: ({ name }) => name },
  { name: "Size", value: (part) => part.size, cell: (part) => <span className="whitespace-nowrap">{size(part.size)}</span> },
  { name: "For", show: "hidden sm:table-cell", value: ({ purpose }) => purpose },
  { name: "Holds", value: ({ holds }) => holds },
  { name: "Label", value: ({ label }) => label },
];

type Nic = FactsView["facts"]["nics"][number];

const DISKS: Column<Disk>[] = [
  { name: "Disk", value: ({ name }) => name },
  { name: "Size", value: (disk) => disk.size, cell: (disk) => <span className="whitespace-nowrap">{size(disk.size)}</span> },
  { name: "Model", show: "hidden sm:table-cell", value: ({ model }) => model ?? "–" },
  { name: "Serial", value: ({ serial }) => serial ?? "–" },
  { name: "On", value: ({ transport }) => transport ?? "–" },
  { name: "Kind", show: "hidden lg:table-cell", value: ({ rotational }) => (rotational ? "turns" : "flash") },
  {
    name: "Health",
    value: ({ health }) => (health == null ? "–" : health.is_well === false ? "0" : "1"),
    cell: ({ health }) => <OfHealth health={health} />,
  },
];

const NICS: Column<Nic>[] = [
  {
    name: "Network card",
    value: ({ mac }) => mac,
    cell: ({ mac, permanent_mac: permanent }) => (
      <span className="font-mono text-xs">
        {mac}
        {permanent != null && permanent !== mac && <span className="block text-base-content/75">built as {permanent}</span>}
      </span>
    ),
  },
  { name: "Will be named", value: ({ names }) => names[0] ?? "–" },
  { name: "Driver", show: "hidden sm:table-cell", value: ({ driver }) => driver ?? "–" },
  { name: "Firmware", show: "hidden lg:table-cell", value: ({ firmware }) => firmware ?? "–" },
  {
    name: "Link",
    value: ({ link, link_speed }) => (link ? (link_speed ?? 1) : 0),
    cell: ({ link, link_speed }) => (link ? speed(link_speed) : "none"),
  },
  { name: "PCI", show: "hidden lg:table-cell", value: ({ pci }) => pci ?? "–" },
  {
    name: "Neighbour",
    value: ({ neighbour }) => (neighbour == null ? "–" : `${neighbour.system_name ?? neighbour.chassis} ${neighbour.port}`),
  },
];

type Slot = FactsView["facts"]["memory"]["slots"][number];
type Device = FactsView["facts"]["devices"][number];

const SLOTS: Column<Slot>[] = [
  { name: "Slot", value: ({ slot }) => slot ?? "–" },
  { name: "Memory", value: ({ mib }) => mib, cell: ({ mib }) => (mib === 0 ? "empty" : size(mib * 1024 * 1024)) },
  { name: "Kind", show: "hidden sm:table-cell", value: ({ kind }) => kind ?? "–" },
  { name: "Vendor", show: "hidden sm:table-cell", value: ({ vendor }) => vendor ?? "–" },
  { name: "Part", show: "hidden lg:table-cell", value: ({ part }) => part ?? "–" },
  { name: "Serial", value: ({ serial }) => serial ?? "–" },
];

/** A number of the PCI registry, as it is written there. */
const registered = (number: number) => number.toString(16).padStart(4, "0");

const DEVICES: Column<Device>[] = [
  { name: "PCI device", value: ({ address }) => address },
  { name: "Name", value: ({ name }) => name ?? "–" },
  { name: "Kind", show: "hidden lg:table-cell", value: ({ kind }) => kind ?? "–" },
  { name: "Vendor:device", show: "hidden sm:table-cell", value: ({ vendor, device }) => `${registered(vendor)}:${registered(device)}` },
  { name: "Driver", value: ({ driver }) => driver ?? "–" },
];

function Parts({ view }: { view: FactsView }) {
  const { disks, nics, memory, devices } = view.facts;
  const parts = disks.flatMap(partsOf);
  return (
    <>
      <Section title="Disks">
        {disks.length === 0 ? <p>None was found.</p> : <Table label="Disks" rows={disks} columns={DISKS} keyOf={({ name }) => name} />}
      </Section>
      {parts.length > 0 && (
        <Section title="What is on the disks">
          <Table label="What is on the disks" rows={parts} columns={PARTS} keyOf={({ key }) => key} />
        </Section>
      )}
      <Section title="Network cards">
        {nics.length === 0 ? (
          <p>None was found.</p>
        ) : (
          <Table label="Network cards" rows={nics} columns={NICS} keyOf={({ mac }) => mac} order={{ column: "PCI", reverse: false }} />
        )}
      </Section>
      {memory.slots.length > 0 && (
        <Section title="Memory">
          <Table label="Memory" rows={memory.slots} columns={SLOTS} keyOf={(slot) => `${slot.bank ?? ""} ${slot.slot ?? ""}`} />
        </Section>
      )}
      {devices.length > 0 && (
        <Section title="PCI devices">
          <Table label="PCI devices" rows={devices} columns={DEVICES} keyOf={({ address }) => address} />
        </Section>
      )}
    </>
  );
}

function History({ who, surveys }: { who: string; surveys: SurveyRow[] }) {
  const [params, setParams] = useSearchParams();
  const show = (boot: string, index: number) => {
    const next = new URLSearchParams(params);
    if (index === 0) {
      next.delete("survey");
    } else {
      next.set("survey", boot);
    }
    setParams(next, { replace: true });
  };
  const columns: Column<SurveyRow>[] = [
    {
      name: "Surveyed",
      value: ({ began }) => -Date.parse(began),
      cell: (survey) => (
        <button
          type="button"
          className="link-hover cursor-pointer whitespace-nowrap"
          onClick={() => {
            show(survey.boot, surveys.indexOf(survey));
          }}
        >
          <span className="sr-only">Show the survey of </span>
          <When at={survey.began} />
        </button>
      ),
    },
    { name: "Machine", show: "hidden sm:table-cell", value: ({ summary }) => summary },
    {
      name: "Different since the one before",
      value: ({ changes }) => changes.length,
      cell: ({ changes }) => <Changes changes={changes} none="nothing" />,
    },
  ];
  return (
    <Section title="Surveys">
      <Table label={`Surveys of ${who}`} rows={surveys} columns={columns} keyOf={({ boot }) => boot} />
    </Section>
  );
}
