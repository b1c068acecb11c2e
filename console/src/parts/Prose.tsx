import { Fragment } from "react";

import { When } from "./Time";

/** A time as the service writes it (RFC 3339), in a text. */
const TIME = /(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?Z)/;

/** A text of the service in which commands stand between back quotes, and times are shown in the reader's zone. */
export function Prose({ text }: { text: string }) {
  return text.split("`").map((part, index) => (
    <Fragment key={index}>
      {index % 2 === 1 ? (
        <code className="bg-base-300/60 px-1 text-[0.92em] break-words">{part}</code>
      ) : (
        part.split(TIME).map((piece, at) => (at % 2 === 1 ? <When key={at} at={piece} /> : piece))
      )}
    </Fragment>
  ));
}
