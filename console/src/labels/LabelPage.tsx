import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";

import { answer, api, basedOn, done, type Edited, edited, type LabelView } from "../api/client";
import { useAllAnswers } from "../answers/useAnswers";
import { useReaders } from "../images/useImages";
import { useMenus } from "../menus/useMenus";
import { NameActions } from "../parts/NameActions";
import { Field, lines, words } from "../parts/Form";
import { NotSaved, PageEnd } from "../parts/FormEnd";
import { Answered } from "../parts/States";
import { useDraft } from "../parts/useDraft";
import { Alike } from "./Alike";
import { useLabel } from "./useLabels";

const FIELDS = ["name", "rank", "menu", "parameters", "without_parameters", "image", "answers"];
/** The rank of a label of which nobody gives another. */
const USUAL_RANK = 100;

/** What the machines of one label have in common. */
export function LabelPage() {
  const { name = "" } = useParams();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/labels" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Labels
      </Link>
      {name === "new" ? <Form saved={undefined} /> : <Known name={name} />}
    </div>
  );
}

function Known({ name }: { name: string }) {
  const label = useLabel(name);
  return <Answered query={label}>{(data) => <Form key={data.name} saved={data} />}</Answered>;
}

interface Draft {
  rank: string;
  menu: string;
  image: string;
  answers: string;
  parameters: string;
  without: string;
}

function toDraft(label: LabelView | undefined): Draft {
  return {
    rank: String(label?.rank ?? USUAL_RANK),
    menu: label?.menu ?? "",
    image: label?.image ?? "",
    answers: label?.answers ?? "",
    parameters: (label?.parameters ?? []).join("\n"),
    without: (label?.without_parameters ?? []).join(" "),
  };
}

function Form({ saved }: { saved: Edited<LabelView> | undefined }) {
  const [name, setName] = useState(saved?.name ?? "");
  const { draft, setDraft, headers, take, rebase } = useDraft(saved, toDraft);
  const menus = useMenus();
  const images = useReaders();
  const answers = useAllAnswers();
  const queries = useQueryClient();
  const go = useNavigate();
  const save = useMutation({
    mutationFn: async (etag?: string) =>
      edited(
        await api.PUT("/api/v1/labels/{name}", {
          params: { path: { name: name.trim() } },
          headers: saved ? headers(etag) : { "If-None-Match": "*" },
          body: {
            rank: Number.parseInt(draft.rank, 10) || 0,
            menu: draft.menu || null,
            image: draft.image || null,
            answers: draft.answers || null,
            parameters: lines(draft.parameters),
            without_parameters: words(draft.without),
          },
        }),
      ),
    onSuccess: async ({ etag }) => {
      rebase(etag);
      await queries.invalidateQueries();
      if (!saved) {
        await go(`/labels/${encodeURIComponent(name.trim())}`);
      }
    },
  });
  const set = (part: Partial<Draft>) => {
    setDraft({ ...draft, ...part });
  };
  return (
    <>
      <h1 className="mt-1 mb-4 text-lg font-semibold">{saved ? saved.name : "Add a label"}</h1>
      {saved && (
        <p className="mb-3">
          <Link className="link" to={`/machines?label=${encodeURIComponent(saved.name)}`}>
            {saved.machines === 1 ? "1 machine" : `${saved.machines} machines`}
          </Link>
          {" · "}
          <Link className="link" to={`/answers/${encodeURIComponent(`label:${saved.name}`)}`}>
            install settings of this label
          </Link>
        </p>
      )}
      <form
        className="max-w-xl space-y-3"
        aria-label="Label"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate(undefined);
        }}
      >
        {!saved && (
          <Field field="name" label="Name" error={save.error}>
            <input className="input w-full" placeholder="kiosk" value={name} onChange={(event) => { setName(event.target.value); }} />
          </Field>
        )}
        <Field
          field="rank"
          label="Rank"
          hint="If a machine has several labels, the one with the highest rank wins."
          error={save.error}
        >
          <input type="number" className="input w-32" value={draft.rank} onChange={(event) => { set({ rank: event.target.value }); }} />
        </Field>
        <Field field="menu" label="Menu" hint="Shown to its machines whose default boot is a menu." error={save.error}>
          <select className="select w-full" value={draft.menu} onChange={(event) => { set({ menu: event.target.value }); }}>
            <option value="">that of the subnet or the site</option>
            {(menus.data ?? []).map((menu) => (
              <option key={menu.name} value={menu.name}>{menu.name}</option>
            ))}
          </select>
        </Field>
        <div className="grid gap-3 sm:grid-cols-2">
          <Field field="image" label="Image" hint="Installed on its machines where nobody names another." error={save.error}>
            <select className="select w-full" value={draft.image} onChange={(event) => { set({ image: event.target.value }); }}>
              <option value="">none</option>
              {images.map((image) => (
                <option key={image.name} value={image.name}>
                  {image.name}
                </option>
              ))}
            </select>
          </Field>
          <Field field="answers" label="Answers" hint="Given to its machines where nobody names others." error={save.error}>
            <select className="select w-full" value={draft.answers} onChange={(event) => { set({ answers: event.target.value }); }}>
              <option value="">none</option>
              {(answers.data ?? [])
                .filter((one) => !one.name.includes(":"))
                .map((one) => (
                  <option key={one.name} value={one.name}>
                    {one.name}
                  </option>
                ))}
            </select>
          </Field>
        </div>
        <Field field="parameters" label="Kernel parameters, one on each line" error={save.error}>
          <textarea className="textarea w-full font-mono" rows={3} placeholder="console=ttyS0,115200" value={draft.parameters} onChange={(event) => { set({ parameters: event.target.value }); }} />
        </Field>
        <Field
          field="without_parameters"
          label="Without these kernel parameters"
          hint="Keys, separated by blanks. All words of a key that come from the image or its answers are removed."
          error={save.error}
        >
          <input className="input w-full font-mono" placeholder="quiet" value={draft.without} onChange={(event) => { set({ without: event.target.value }); }} />
        </Field>
        <NotSaved fields={FIELDS} save={save} theirs={saved && (() => { take(saved); })} />
        <PageEnd save={save} isNew={!saved}>
          {saved && (
            <NameActions
              noun="label"
              name={name}
              page={(of) => `/labels${of === undefined ? "" : `/${encodeURIComponent(of)}`}`}
              rename={async (to) => answer(await api.POST("/api/v1/labels/{name}/rename", { params: { path: { name } }, body: { to } }))}
              remove={async () => {
                done(await api.DELETE("/api/v1/labels/{name}", { params: { path: { name } }, headers: basedOn(saved.etag) }));
              }}
              lost="Its parameters, menu, rank, image and answers are lost. Machines keep the label."
            />
          )}
        </PageEnd>
      </form>
      {saved && <Alike label={saved.name} />}
    </>
  );
}
