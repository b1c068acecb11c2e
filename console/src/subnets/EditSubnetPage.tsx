import { useQuery } from "@tanstack/react-query";
import { ArrowLeft } from "lucide-react";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";

import { answer, api } from "../api/client";
import { Answered, Failed } from "../parts/States";
import { SubnetForm } from "./SubnetForm";
import { FRESH, toFields } from "./subnetDraft";
import { useSubnet } from "./useSubnets";

/** Changes a subnet that is there. */
export function EditSubnetPage() {
  const { name = "" } = useParams();
  const { subnet } = useSubnet(name);
  return (
    <Frame title={`Change ${name}`} back={`/subnets/${name}`}>
      <Answered query={subnet}>
        {(data) => <SubnetForm start={toFields(data)} reasons={[]} replaces={data} />}
      </Answered>
    </Frame>
  );
}

/** Adds a subnet, from nothing or from what an interface shows. */
export function NewSubnetPage() {
  const [params, setParams] = useSearchParams();
  const from = params.get("from") ?? "";
  const [wire, setWire] = useState(from);
  const proposal = useQuery({
    queryKey: ["suggestion", from],
    enabled: from !== "",
    retry: false,
    queryFn: async () =>
      answer(await api.GET("/api/v1/interfaces/{interface}/suggestion", { params: { path: { interface: from } } })),
  });
  return (
    <Frame title="A new subnet" back="/subnets">
      <form
        className="mb-4 flex flex-wrap items-center gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          setParams(wire.trim() ? { from: wire.trim() } : {});
        }}
      >
        <label className="input input-sm w-72">
          <span className="text-base-content/70">from interface</span>
          <input
            value={wire}
            placeholder="eno1"
            aria-label="Propose it from this interface"
            onChange={(event) => {
              setWire(event.target.value);
            }}
          />
        </label>
        <button type="submit" className="btn btn-sm" disabled={proposal.isFetching}>
          {proposal.isFetching ? "Looking …" : "Propose it"}
        </button>
      </form>
      <Failed query={proposal} />
      {proposal.data ? (
        <SubnetForm key={from} start={toFields(proposal.data.draft)} reasons={proposal.data.reasons} replaces={undefined} />
      ) : (
        !proposal.isFetching && <SubnetForm key="fresh" start={FRESH} reasons={[]} replaces={undefined} />
      )}
    </Frame>
  );
}

function Frame({ title, back, children }: { title: string; back: string; children: React.ReactNode }) {
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to={back} className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Back
      </Link>
      <h1 className="mt-1 mb-4 text-lg font-semibold">{title}</h1>
      {children}
    </div>
  );
}
