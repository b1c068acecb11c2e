import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowLeft, X } from "lucide-react";
import { useState } from "react";
import { Link, useLocation, useNavigate, useSearchParams } from "react-router";

import { answer, api, type AnswersView } from "../api/client";
import { useAllAnswers } from "../answers/useAnswers";
import { useReaders } from "../images/useImages";
import { Refusal } from "../parts/Faults";
import { words } from "../parts/Form";
import { MachinePicker } from "../parts/MachinePicker";
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

/** What stands for the image, or the answers, of each machine's label. No name is like it. */
const OF_LABEL = ":label";

/** The machines that were selected, by their list or by the address. */
function useMeant(): string[] {
  const [params] = useSearchParams();
  const state = useLocation().state as { machines?: string[] } | null;
  return state?.machines ?? words(params.get("machine") ?? "");
}

function Form({ answers }: { answers: AnswersView[] }) {
  const [params] = useSearchParams();
  const [machines, setMachines] = useState(useMeant());
  const [another, setAnother] = useState("");
  const [labels, setLabels] = useState(params.get("label") ?? "");
  const [image, setImage] = useState("");
  const [chosen, setChosen] = useState("");
  const [asked, setAsked] = useState<Record<string, string>>({});
  const readers = useReaders();
  const queries = useQueryClient();
  const go = useNavigate();
  const fitting = answers.filter(({ settings }) => image === "" || image === OF_LABEL || (settings.images ?? []).length === 0 || settings.images?.includes(image));
  const questions = useQuery({
    queryKey: ["questions", chosen, machines],
    enabled: chosen !== "" && chosen !== OF_LABEL,
    queryFn: async () =>
      answer(
        await api.POST("/api/v1/answers/{name}/preview", {
          params: { path: { name: chosen } },
          body: { machine: machines[0] ?? null, image: image === OF_LABEL ? null : image || null },
        }),
      ).open,
  });
  // What the fields show is what is said: a default, too, unless somebody takes it out.
  const fields = Object.entries(questions.data ?? {}).map(([key, question]) => [key, asked[key] ?? question.default ?? ""] as const);
  const said = Object.fromEntries(fields.filter(([, value]) => value !== ""));
  const meant = {
    machines,
    labels: words(labels),
    image: image === OF_LABEL ? null : image,
    answers: chosen === OF_LABEL ? null : chosen,
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
      <fieldset>
        <legend className="font-medium">
          {machines.length === 0 ? "Machines" : machines.length === 1 ? "1 machine" : `${machines.length} machines`}
        </legend>
        <ul className="mb-1 flex max-h-32 flex-wrap gap-1 overflow-y-auto">
          {machines.map((name) => (
            <li key={name} className="flex items-center gap-1 bg-base-200 pl-2">
              {name}
              <button
                type="button"
                className="btn btn-ghost btn-xs btn-square"
                aria-label={`Leave out ${name}`}
                onClick={() => {
                  setMachines(machines.filter((other) => other !== name));
                }}
              >
                <X className="size-3" />
              </button>
            </li>
          ))}
        </ul>
        <span className="flex flex-wrap items-center gap-2">
          <MachinePicker value={another} change={setAnother} label="Another machine" hint="name or MAC address" />
          <button
            type="button"
            className="btn btn-sm"
            disabled={another.trim() === ""}
            onClick={() => {
              setMachines([...new Set([...machines, another.trim()])]);
              setAnother("");
            }}
          >
            Add
          </button>
          <Link to="/machines" className="link">
            select in the list
          </Link>
        </span>
      </fieldset>
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
          <p className="mb-2 text-xs text-base-content/70">A question that is left open here is asked on the machine&apos;s screen.</p>
          {Object.entries(questions.data ?? {}).map(([key, question]) => (
            <label key={key} className="mb-2 block">
              <span className="block">{question.text}</span>
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
        <option value={OF_LABEL}>that of its label</option>
        {props.names.map(([name, shown]) => (
          <option key={name} value={name}>
            {shown}
          </option>
        ))}
      </select>
    </label>
  );
}
