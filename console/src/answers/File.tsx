import { useQuery, type UseQueryResult } from "@tanstack/react-query";
import { useState } from "react";

import { answer, api, type AnswersPreview } from "../api/client";
import { Prose } from "../parts/Prose";
import { MachinePicker } from "../parts/MachinePicker";
import { Failed, Loading } from "../parts/States";
import { changedLines } from "./draft";
import type { Looking } from "./useAnswers";

/** The finished file, changing as somebody types beside it, with the lines lit that differ from what is saved. */
export function File(props: {
  preview: UseQueryResult<AnswersPreview>;
  before: AnswersPreview | undefined;
  looking: Looking;
  setLooking: (looking: Looking) => void;
}) {
  const { preview, before, looking, setLooking } = props;
  const [chosen, setChosen] = useState(0);
  const images = useQuery({ queryKey: ["images"], queryFn: async () => answer(await api.GET("/api/v1/images")) });
  const files = preview.data?.files ?? [];
  const file = files[chosen] ?? files[0];
  // Files of another machine or image, which the next answer brings up to date, are no measure.
  const isSame = before?.machine === preview.data?.machine && before?.image === preview.data?.image;
  const earlier = isSame ? before?.files.find((one) => one.name === file?.name) : undefined;
  const open = Object.entries(preview.data?.open ?? {});
  return (
    <section aria-label="The file">
      <div className="mb-2 flex flex-wrap gap-2">
        <MachinePicker
          value={looking.machine}
          change={(machine) => {
            setLooking({ ...looking, machine });
          }}
        />
        <select
          className="select select-sm w-52"
          aria-label="Image"
          value={looking.image}
          onChange={(event) => {
            setLooking({ ...looking, image: event.target.value });
          }}
        >
          <option value="">image: {preview.data?.image ?? "none"}</option>
          {(images.data ?? [])
            .filter((image) => image.current.family !== "none")
            .map((image) => (
              <option key={image.name} value={image.name}>{image.name}</option>
            ))}
        </select>
        {files.length > 1 && (
          <select
            className="select select-sm w-44"
            aria-label="File"
            value={chosen}
            onChange={(event) => {
              setChosen(Number(event.target.value));
            }}
          >
            {files.map((one, index) => (
              <option key={one.name} value={index}>
                {one.name}
              </option>
            ))}
          </select>
        )}
      </div>
      {(preview.data?.warnings ?? []).map((warning) => (
        <p key={warning.place + warning.what} className="mb-2 border-l-4 border-warning pl-2">
          <code>{warning.place}</code>: {warning.what}. <Prose text={warning.fix} />
        </p>
      ))}
      {open.length > 0 && (
        <p className="mb-2 text-base-content/75">
          Left open, with samples in their place: {open.map(([key, question]) => `${key} (${question.text})`).join(", ")}
        </p>
      )}
      <Failed query={preview} />
      {preview.isPending && <Loading rows={8} />}
      {file && <Lines text={file.text} before={earlier?.text} name={file.name} />}
    </section>
  );
}

function Lines({ text, before, name }: { text: string; before: string | undefined; name: string }) {
  const changed = changedLines(before, text);
  const lines = text.replace(/\n$/, "").split("\n");
  return (
    <pre
      aria-label={name}
      className="max-h-[70vh] overflow-auto rounded border border-base-300 bg-base-200 py-2 text-xs leading-5"
      // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- what scrolls must be reached by the keyboard
      tabIndex={0}
    >
      {lines.map((line, index) => (
        <div
          key={index}
          className={changed.has(index) ? "bg-warning/25 px-3" : "px-3"}
          data-changed={changed.has(index) || undefined}
        >
          {line === "" ? " " : line}
        </div>
      ))}
    </pre>
  );
}
