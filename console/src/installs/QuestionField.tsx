import type { Question } from "../api/client";

/** A field for the answer to a question, after its kind. */
export function QuestionField(props: { question: Question; value: string; change: (value: string) => void }) {
  const { question, value } = props;
  const kind = question.kind ?? "text";
  const choices = typeof kind === "object" ? kind.choice : kind === "yes-no" ? ["yes", "no"] : undefined;
  if (choices) {
    return (
      <select
        className="select select-sm w-full"
        value={value}
        onChange={(event) => {
          props.change(event.target.value);
        }}
      >
        <option value="">choose</option>
        {choices.map((choice) => (
          <option key={choice} value={choice}>{choice}</option>
        ))}
      </select>
    );
  }
  return (
    <input
      className="input input-sm w-full"
      inputMode={kind === "number" ? "numeric" : "text"}
      value={value}
      onChange={(event) => {
        props.change(event.target.value);
      }}
    />
  );
}
