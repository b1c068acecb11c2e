import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { Dialog } from "./Dialog";
import { Field, OtherFaults } from "./Form";

/** What can be done to a thing by its name. What is left out cannot be done. */
interface Actions {
  noun: string;
  name: string;
  /** The page of the thing of a name; of none, the list. */
  page: (name?: string) => string;
  rename?: (to: string) => Promise<unknown>;
  copy?: (to: string) => Promise<unknown>;
  remove?: () => Promise<unknown>;
  /** Whether its buttons are those of a table's row. */
  small?: boolean;
  /** What is lost when it is removed. */
  lost?: string;
}

type Kind = "rename" | "copy" | "remove";

/** Buttons that rename, copy and remove a thing, each with a question in between. */
export function NameActions(props: Actions) {
  const [asking, setAsking] = useState<Kind>();
  const button = (kind: Kind, text: string) =>
    props[kind] && (
      <button
        type="button"
        className={`btn ${props.small === true ? "btn-xs" : "btn-sm"}`}
        aria-label={`${text} ${props.name}`}
        onClick={() => {
          setAsking(kind);
        }}
      >
        {text}
      </button>
    );
  return (
    <>
      {button("rename", "Rename")}
      {button("copy", "Copy")}
      {button("remove", "Remove")}
      {asking && (
        <Question
          {...props}
          kind={asking}
          close={() => {
            setAsking(undefined);
          }}
        />
      )}
    </>
  );
}

const TITLES: Record<Kind, string> = { rename: "Rename", copy: "Copy", remove: "Remove" };

function Question(props: Actions & { kind: Kind; close: () => void }) {
  const { kind, noun, name, close } = props;
  const [to, setTo] = useState(kind === "copy" ? "" : name);
  const queries = useQueryClient();
  const go = useNavigate();
  const act = useMutation({
    mutationFn: async () => (kind === "remove" ? props.remove?.() : props[kind]?.(to.trim())),
    onSuccess: async () => {
      close();
      await go(props.page(kind === "remove" ? undefined : to.trim()));
      await queries.invalidateQueries();
    },
  });
  return (
    <Dialog title={`${TITLES[kind]} ${noun} ${name}`} close={close}>
      <form
        className="space-y-3"
        aria-label={`${TITLES[kind]} ${noun}`}
        onSubmit={(event) => {
          event.preventDefault();
          act.mutate();
        }}
      >
        {kind === "remove" ? (
          <p>{props.lost ?? "It cannot be undone."}</p>
        ) : (
          <Field
            field="to"
            label={kind === "copy" ? "Name of the copy" : "New name"}
            {...(kind === "rename" && { hint: "What refers to it follows. The record of installs keeps the former name." })}
            error={act.error}
          >
            <input
              className="input w-full"
              value={to}
              onChange={({ target }) => {
                setTo(target.value);
              }}
            />
          </Field>
        )}
        <OtherFaults fields={["to"]} error={act.error} />
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={close}>
            Cancel
          </button>
          <button
            type="submit"
            className={`btn btn-sm ${kind === "remove" ? "btn-error" : "btn-primary"}`}
            disabled={act.isPending || to.trim() === "" || (kind === "rename" && to.trim() === name)}
          >
            {TITLES[kind]}
          </button>
        </div>
      </form>
    </Dialog>
  );
}
