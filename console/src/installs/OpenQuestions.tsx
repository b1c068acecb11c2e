import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { answer, api, type InstallDetail } from "../api/client";
import { Refusal } from "../parts/Faults";
import { QuestionField } from "./QuestionField";

/** What a machine waits for, to be answered here. It goes on by itself. */
export function OpenQuestions({ install }: { install: InstallDetail }) {
  const questions = Object.entries(install.open_questions);
  const proposed = Object.fromEntries(questions.map(([key, question]) => [key, question.default ?? ""]));
  const [typed, setTyped] = useState<Record<string, string>>({});
  const queries = useQueryClient();
  const send = useMutation({
    mutationFn: async () => {
      const asked = Object.fromEntries(
        questions.map(([key]) => [key, typed[key] ?? proposed[key] ?? ""]).filter(([, value]) => value !== ""),
      ) as Record<string, string>;
      return answer(
        await api.POST("/api/v1/installs/{number}/answer", {
          params: { path: { number: install.number } },
          body: { asked },
        }),
      );
    },
    onSettled: () => queries.invalidateQueries(),
  });
  if (questions.length === 0) {
    return null;
  }
  return (
    <form
      className="mb-6 max-w-xl border-l-4 border-warning pl-3"
      aria-label="Open questions"
      onSubmit={(event) => {
        event.preventDefault();
        send.mutate();
      }}
    >
      <p className="mb-2 font-semibold">{install.machine} waits on its screen until this is answered:</p>
      {questions.map(([key, question]) => (
        <label key={key} className="mb-2 block">
          <span className="block">{question.text}</span>
          <QuestionField
            question={question}
            value={typed[key] ?? proposed[key] ?? ""}
            change={(value) => {
              setTyped({ ...typed, [key]: value });
            }}
          />
        </label>
      ))}
      <Refusal error={send.error} title="Nothing was saved." />
      <button type="submit" className="btn btn-primary btn-sm" disabled={send.isPending}>
        Answer
      </button>
    </form>
  );
}
