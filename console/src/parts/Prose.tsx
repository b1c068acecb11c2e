import { Fragment } from "react";

/** A text of the service in which commands stand between back quotes. */
export function Prose({ text }: { text: string }) {
  return text.split("`").map((part, index) => (
    <Fragment key={index}>
      {index % 2 === 1 ? <code className="bg-base-300/60 px-1 text-[0.92em] break-words">{part}</code> : part}
    </Fragment>
  ));
}
