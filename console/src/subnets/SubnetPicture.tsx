import { useState } from "react";
import { Link } from "react-router";

import { api, done, type Holding, type Picture, type Span } from "../api/client";
import { Confirm } from "../parts/Confirm";
import { type Column, Table } from "../parts/Table";
import { When } from "../parts/Time";

/** Networks up to this size are drawn address by address; of larger ones the runs are drawn to scale. */
const DRAWN = 1024;

/** What each kind is called in the key, and how it looks: filled is held, hollow is free to be lent. */
const LOOKS: Record<Holding, { text: string; look: string }> = {
  leased: { text: "leased", look: "bg-primary" },
  offered: { text: "offered", look: "bg-primary/50" },
  reserved: { text: "reserved", look: "bg-secondary" },
  quarantined: { text: "in use by others", look: "bg-error" },
  free: { text: "free", look: "border border-base-content/30" },
  remembered: { text: "remembered", look: "border border-dashed border-primary/60" },
  excluded: { text: "excluded", look: "border border-dashed border-base-content/40" },
  fixed: { text: "fixed, in no pool", look: "bg-base-300/60" },
  server: { text: "server", look: "bg-neutral/60" },
  router: { text: "router", look: "bg-neutral" },
  own: { text: "this service", look: "bg-neutral rounded-full" },
  network: { text: "network, broadcast", look: "bg-base-content/25 rotate-45 scale-75" },
};

/** What ends a claim on an address, where something can, and what that means. */
const ENDED: Partial<Record<Holding, { action: string; text: string }>> = {
  leased: {
    action: "End the lease",
    text: "The address may be given to another machine at once. If the one that has it is still running, both would use it.",
  },
  remembered: { action: "Forget", text: "The machine that had it may get another address next time." },
  quarantined: { action: "Release", text: "It may be given out again. If somebody still uses it, two machines would." },
};

const ORDER = Object.keys(LOOKS) as Holding[];

/** What every address of a subnet is, and its owner. */
export function SubnetPicture({ subnet, picture }: { subnet: string; picture: Picture }) {
  const [ending, setEnding] = useState<Span>();
  const ended = ending && ENDED[ending.holding];
  const columns: Column<Span>[] = [
    ...COLUMNS,
    {
      name: "Action",
      value: () => "",
      cell: (span) => {
        const action = ENDED[span.holding]?.action;
        return (
          action !== undefined && (
            <button
              type="button"
              className="btn btn-xs whitespace-nowrap"
              aria-label={`${action} ${span.first}`}
              onClick={() => {
                setEnding(span);
              }}
            >
              {action}
            </button>
          )
        );
      },
    },
  ];
  const total = picture.spans.reduce((sum, span) => sum + size(span), 0);
  return (
    <>
      <Key picture={picture} />
      {total <= DRAWN ? <Cells spans={picture.spans} /> : <Bar spans={picture.spans} total={total} />}
      {ending && ended && (
        <Confirm
          title={`${ended.action} ${ending.first}?`}
          text={ended.text}
          action={ended.action}
          act={async () => {
            const path = { name: subnet, address: ending.first };
            done(await api.DELETE("/api/v1/subnets/{name}/leases/{address}", { params: { path } }));
          }}
          close={() => {
            setEnding(undefined);
          }}
        />
      )}
      <Table
        label="Addresses in use"
        rows={picture.spans.filter((span) => span.who != null)}
        columns={columns}
        keyOf={(span) => span.first}
      />
    </>
  );
}

function Key({ picture }: { picture: Picture }) {
  return (
    <ul className="mb-3 flex flex-wrap gap-x-4 gap-y-1">
      {ORDER.filter((holding) => picture.counts[holding]).map((holding) => (
        <li key={holding} className="flex items-center gap-1.5">
          <span className={`size-3 ${LOOKS[holding].look}`} aria-hidden />
          {picture.counts[holding]} {LOOKS[holding].text}
        </li>
      ))}
    </ul>
  );
}

function Cells({ spans }: { spans: Span[] }) {
  const cells = spans.flatMap((span) =>
    Array.from({ length: size(span) }, (_, step) => ({ address: shifted(span.first, step), span })),
  );
  return (
    <div
      role="img"
      aria-label="One field per address; the table below lists those in use"
      className="mb-5 grid max-w-3xl grid-cols-[repeat(32,minmax(0,1fr))] gap-0.5"
    >
      {cells.map(({ address, span }) => (
        <span
          key={address}
          title={`${address}: ${LOOKS[span.holding].text}${span.who ? `, ${span.who}` : ""}`}
          className={`aspect-square ${LOOKS[span.holding].look}`}
        />
      ))}
    </div>
  );
}

function Bar({ spans, total }: { spans: Span[]; total: number }) {
  return (
    <div role="img" aria-label="The runs of the network, to scale" className="mb-5 flex h-8 w-full max-w-3xl">
      {spans.map((span) => (
        <span
          key={span.first}
          title={`${span.first} to ${span.last}: ${LOOKS[span.holding].text}`}
          className={LOOKS[span.holding].look}
          style={{ width: `${(size(span) / total) * 100}%` }}
        />
      ))}
    </div>
  );
}

const COLUMNS: Column<Span>[] = [
  { name: "Address", value: (span) => span.first },
  {
    name: "Kind",
    value: (span) => LOOKS[span.holding].text,
    cell: ({ holding }) => (
      <span className={holding === "quarantined" ? "font-semibold text-error" : ""}>{LOOKS[holding].text}</span>
    ),
  },
  { name: "Owner", value: (span) => span.who ?? "", cell: (span) => <Whose span={span} /> },
  {
    name: "Until",
    show: "hidden whitespace-nowrap sm:table-cell",
    value: (span) => span.until ?? "",
    cell: (span) => <When at={span.until} />,
  },
];

/** Whoever holds a lease left a trace under that name. */
function Whose({ span }: { span: Span }) {
  const machine = ["leased", "offered", "remembered", "quarantined"].includes(span.holding);
  if (machine && span.who && !span.who.startsWith("id:")) {
    return (
      <Link className="link-hover" to={`/traces/${encodeURIComponent(span.who)}`}>
        {span.who}
      </Link>
    );
  }
  return <>{span.who}</>;
}

function number(address: string): number {
  return address.split(".").reduce((sum, part) => sum * 256 + Number(part), 0);
}

function shifted(address: string, step: number): string {
  const bits = number(address) + step;
  return [24, 16, 8, 0].map((shift) => Math.floor(bits / 2 ** shift) % 256).join(".");
}

function size(span: Span): number {
  return number(span.last) - number(span.first) + 1;
}
