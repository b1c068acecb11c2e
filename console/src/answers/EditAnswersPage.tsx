import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft } from "lucide-react";
import { useState } from "react";
import { Link, useParams } from "react-router";

import { answer, type AnswersView, api, basedOn, done, type Edited, edited, type SettingsDraft } from "../api/client";
import { Conflict } from "../parts/Conflict";
import { Faults, Refusal } from "../parts/Faults";
import { NameActions } from "../parts/NameActions";
import { Loading } from "../parts/States";
import { useDraft } from "../parts/useDraft";
import { File } from "./File";
import { RawSettings } from "./RawSettings";
import { SettingsForm } from "./SettingsForm";
import { type Looking, useAnswers, useAnswersPreview } from "./useAnswers";
import { Versions } from "./Versions";

/** Settings being filled in, and beside them the file that a machine will get. */
export function EditAnswersPage() {
  const { name = "" } = useParams();
  const saved = useAnswers(name);
  return (
    <div className="flex min-h-0 flex-1 flex-col overflow-auto pb-8">
      <Link to="/answers" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Answers
      </Link>
      {saved.isPending ? <Loading /> : <Editor key={name} name={name} saved={saved.data} />}
    </div>
  );
}

/** How a layer is called as the origin of a value. */
function originOf(name: string): string {
  if (name === "site:") {
    return "site";
  }
  return name.includes(":") ? name.replace(":", " ") : `answers ${name}`;
}

const VIEWS = ["Form", "Raw", "Versions"] as const;

const draftOf = (saved: AnswersView | undefined) => (saved?.settings ?? {}) as SettingsDraft;

function Editor({ name, saved }: { name: string; saved: Edited<AnswersView> | undefined }) {
  const { draft, setDraft, isChanged, headers, take } = useDraft(saved, draftOf);
  const [looking, setLooking] = useState<Looking>({ machine: "", image: "" });
  const [view, setView] = useState<(typeof VIEWS)[number]>("Form");
  const preview = useAnswersPreview(name, draft, looking);
  const kept = useAnswersPreview(name, undefined, looking, saved !== undefined);
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: async (etag?: string) => {
      const params = { path: { name } };
      return edited(await api.PUT("/api/v1/answers/{name}", { params, headers: headers(etag), body: draft }));
    },
    onSuccess: async (version) => {
      // Passwords are kept as hashes now: none of them stays in the page.
      take(version);
      await queries.invalidateQueries();
    },
  });
  const faults = preview.data?.faults ?? [];
  const form = {
    draft,
    change: setDraft,
    resolved: preview.data?.settings ?? kept.data?.settings,
    origins: preview.data?.origins ?? {},
    faults,
    self: originOf(name),
  };
  return (
    <>
      <div className="mt-1 mb-3 flex flex-wrap items-center gap-3">
        <h1 className="text-lg font-semibold">{name}</h1>
        <span className="text-base-content/70">{saved ? `v${saved.version}` : "not saved yet"}</span>
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={save.isPending || (saved !== undefined && !isChanged)}
          onClick={() => {
            save.mutate(undefined);
          }}
        >
          {saved ? `Save as v${saved.version + 1}` : "Save"}
        </button>
        {saved && (
          <NameActions
            noun="answers"
            name={name}
            page={(of) => `/answers${of === undefined ? "" : `/${of}`}`}
            {...(!name.includes(":") && {
              rename: async (to: string) =>
                answer(await api.POST("/api/v1/answers/{name}/rename", { params: { path: { name } }, body: { to } })),
              copy: async (to: string) =>
                answer(await api.POST("/api/v1/answers/{name}/copy", { params: { path: { name } }, body: { to } })),
            })}
            remove={async () => {
              done(await api.DELETE("/api/v1/answers/{name}", { params: { path: { name } }, headers: basedOn(saved.etag) }));
            }}
            lost="They can no longer be armed. Installs that have them keep their version."
          />
        )}
        <div role="tablist" className="join">
          {VIEWS.filter((one) => saved !== undefined || one !== "Versions").map((one) => (
            <button
              key={one}
              type="button"
              role="tab"
              aria-selected={view === one}
              className={`btn join-item btn-sm ${view === one ? "btn-active" : ""}`}
              onClick={() => {
                setView(one);
              }}
            >
              {one}
            </button>
          ))}
        </div>
        <span role="status" className="text-success">
          {save.isSuccess && !isChanged && `saved as v${save.data.version}`}
        </span>
      </div>
      <Refusal error={save.error} />
      <Conflict
        save={save}
        theirs={() => {
          if (saved) {
            take(saved);
          }
        }}
      />
      {view === "Versions" && saved ? (
        <Versions name={name} current={saved.version} />
      ) : (
        <div className="grid gap-x-8 gap-y-4 lg:grid-cols-[minmax(0,32rem)_minmax(0,1fr)]">
          {view === "Raw" ? (
            <RawSettings draft={draft} change={setDraft} />
          ) : (
            <SettingsForm form={form} answers={!name.includes(":")} />
          )}
          <div className="min-w-0 lg:sticky lg:top-0 lg:self-start">
            <Faults title="No file can be written for this:" faults={faults} />
            <File preview={preview} before={kept.data} looking={looking} setLooking={setLooking} />
          </div>
        </div>
      )}
    </>
  );
}
