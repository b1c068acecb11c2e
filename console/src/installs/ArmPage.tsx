import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";

import { answer, api, type AnswersView } from "../api/client";
import { useAllAnswers } from "../answers/useAnswers";
import { useImages } from "../images/useImages";
import { Refusal } from "../parts/Faults";
import { Answered } from "../parts/States";
import { QuestionField } from "./QuestionField";
import { ArmPreview } from "./ArmPreview";

/** Puts an image on machines at their next network boot: on all that are named, or on none. */
export function ArmPage() {
  const answers = useAllAnswers();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <Link to="/installs" className="link-hover inline-flex items-center gap-1 text-base-content/75">
        <ArrowLeft className="size-4" aria-hidden /> Installs
      </Link>
      <h1 className="mt-1 mb-4 text-lg font-semibold">Arm installs</h1>
      <Answered query={answers}>{(all) => <Form answers={all.filter(({ name }) => !name.includes(":"))} />}</Answered>
    </div>
  );
}

const words = (text: string) => text.split(/[\s,]+/).filter((word) => word !== "");

function Form({ answers }: { answers: AnswersView[] }) {
  const [params] = useSearchParams();
  const [machines, setMachines] = useState(params.get("machine") ?? "");
  const [labels, setLabels] = useState(params.get("label") ?? "");
  const [image, setImage] = useState("");
  const [chosen, setChosen] = useState("");
  const [asked, setAsked] = useState<Record<string, string>>({});
  const images = useImages();
  const queries = useQueryClient();
  const go = useNavigate();
  const readers = (images.data ?? []).filter(
    ({ kind, current }) => (kind === "installer" || kind === "live") && current.family !== "none",
  );
  const fitting = answers.filter(({ settings }) => image === "" || (settings.images ?? []).length === 0 || settings.images?.includes(image));
  const questions = useQuery({
    queryKey: ["questions", chosen, machines],
    enabled: chosen !== "",
    queryFn: async () =>
      answer(
        await api.POST("/api/v1/answers/{name}/preview", {
          params: { path: { name: chosen } },
          body: { machine: words(machines)[0] ?? null, image: image || null },
        }),
      ).open,
  });
  // What the fields show is what is said: a default, too, unless somebody takes it out.
  const fields = Object.entries(questions.data ?? {}).map(([key, question]) => [key, asked[key] ?? question.default ?? ""] as const);
  const said = Object.fromEntries(fields.filter(([, value]) => value !== ""));
  const meant = {
    machines: words(machines),
    labels: words(labels),
    image,
    answers: chosen,
    asked: said,
  };
  const arm = useMutation({
    mutationFn: async () => answer(await api.POST("/api/v1/installs/several", { body: meant })),
    onSuccess: (installs) => go(installs.length === 1 && installs[0] ? `/installs/${installs[0].number}` : "/installs?state=armed"),
    onSettled: () => queries.invalidateQueries(),
  });
  const isWhole = image !== "" && chosen !== "" && (meant.machines.length > 0 || meant.labels.length > 0);
  return (
    <div className="grid items-start gap-6 lg:grid-cols-[minmax(20rem,1fr)_2fr]">
    <form
      className="space-y-3"
      onSubmit={(event) => {
        event.preventDefault();
        arm.mutate();
      }}
    >
      <label className="block">
        <span className="block font-medium">Machines</span>
        <textarea
          className="textarea w-full"
          rows={3}
          placeholder="auklet-chart fulmar-engine-log"
          value={machines}
          onChange={(event) => {
            setMachines(event.target.value);
          }}
        />
        <span className="block text-xs text-base-content/70">their names, divided by blanks, commas or lines</span>
      </label>
      <label className="block">
        <span className="block font-medium">And every machine with all of these labels</span>
        <input
          className="input w-full"
          placeholder="kiosk"
          value={labels}
          onChange={(event) => {
            setLabels(event.target.value);
          }}
        />
      </label>
      <div className="grid gap-3 sm:grid-cols-2">
        <Choice label="Image" value={image} change={setImage} names={readers.map(({ name, current }) => [name, `${name} r${current.number}`])} />
        <Choice label="Answers" value={chosen} change={setChosen} names={fitting.map(({ name, version }) => [name, `${name} v${version}`])} />
      </div>
      {Object.keys(questions.data ?? {}).length > 0 && (
        <fieldset className="border-l-4 border-base-300 pl-3">
          <legend className="font-medium">What these answers ask</legend>
          <p className="mb-2 text-xs text-base-content/70">What is left open here, each machine waits for on its screen.</p>
          {Object.entries(questions.data ?? {}).map(([key, question]) => (
            <label key={key} className="mb-2 block">
              <span className="block">{question.ask}</span>
              <QuestionField
                question={question}
                value={asked[key] ?? question.default ?? ""}
                change={(value) => {
                  setAsked({ ...asked, [key]: value });
                }}
              />
            </label>
          ))}
        </fieldset>
      )}
      <Refusal error={arm.error} title="Nothing was armed." />
      <button type="submit" className="btn btn-primary" disabled={arm.isPending || !isWhole}>
        Arm
      </button>
      <p className="text-xs text-base-content/70">
        Each gets it at its next network boot, once: a machine that is installed stays so until it is armed again.
      </p>
    </form>
    <ArmPreview meant={isWhole ? meant : undefined} />
    </div>
  );
}

function Choice(props: { label: string; value: string; names: [string, string][]; change: (name: string) => void }) {
  return (
    <label className="block">
      <span className="block font-medium">{props.label}</span>
      <select
        className="select w-full"
        value={props.value}
        onChange={(event) => {
          props.change(event.target.value);
        }}
      >
        <option value="">choose</option>
        {props.names.map(([name, shown]) => (
          <option key={name} value={name}>
            {shown}
          </option>
        ))}
      </select>
    </label>
  );
}
