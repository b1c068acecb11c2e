import { Plus, X } from "lucide-react";
import { type ReactNode, useState } from "react";

import type { Form } from "./Fields";
import { at, keysAt, type Path, put } from "./draft";

/** Things that are known by a name: users, disks, interfaces, scripts. Those of other layers can be changed here too. */
export function Named(props: {
  form: Form;
  path: Path;
  /** What one of them is called: user. */
  what: string;
  /** What a new one holds. */
  fresh: unknown;
  children: (name: string, path: Path) => ReactNode;
}) {
  const { form, path, what } = props;
  const [name, setName] = useState("");
  const own = keysAt(form.draft, path);
  const inherited = keysAt(form.resolved, path).filter((key) => !own.includes(key));
  const add = (key: string) => {
    form.change(put(form.draft, [...path, key], props.fresh));
  };
  return (
    <>
      {own.map((key) => (
        <fieldset key={key} className="contents" aria-label={`${what} ${key}`}>
          <div className="flex items-center gap-1 pt-2 font-medium sm:col-span-2">
            <code>{key}</code>
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              aria-label={`Take ${what} ${key} out`}
              onClick={() => {
                form.change(put(form.draft, [...path, key], undefined));
              }}
            >
              <X className="size-3.5" aria-hidden />
            </button>
          </div>
          {props.children(key, [...path, key])}
        </fieldset>
      ))}
      {inherited.map((key) => (
        <p key={key} className="pt-1 text-base-content/75 sm:col-span-2">
          <code>{key}</code> comes from another layer.{" "}
          <button
            type="button"
            className="link"
            onClick={() => {
              add(key);
            }}
          >
            Change it here
          </button>
        </p>
      ))}
      <form
        className="flex gap-1 pt-1 sm:col-span-2"
        onSubmit={(event) => {
          event.preventDefault();
          if (name.trim() !== "" && at(form.draft, [...path, name.trim()]) === undefined) {
            add(name.trim());
          }
          setName("");
        }}
      >
        <input
          className="input input-sm w-44"
          aria-label={`Name of a new ${what}`}
          placeholder={`name of a new ${what}`}
          value={name}
          onChange={(event) => {
            setName(event.target.value);
          }}
        />
        <button type="submit" className="btn btn-sm" disabled={name.trim() === ""}>
          <Plus className="size-3.5" aria-hidden /> Add
        </button>
      </form>
    </>
  );
}

/** Things in a row: volumes, disks that are never touched. */
export function Listed(props: {
  form: Form;
  path: Path;
  what: string;
  fresh: unknown;
  children: (path: Path) => ReactNode;
}) {
  const { form, path, what } = props;
  const value = at(form.draft, path);
  const count = Array.isArray(value) ? value.length : 0;
  return (
    <>
      {Array.from({ length: count }, (_, index) => (
        <fieldset key={index} className="contents" aria-label={`${what} ${index + 1}`}>
          <div className="flex items-center gap-1 pt-2 font-medium sm:col-span-2">
            {what} {index + 1}
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              aria-label={`Take ${what} ${index + 1} out`}
              onClick={() => {
                form.change(put(form.draft, [...path, index], undefined));
              }}
            >
              <X className="size-3.5" aria-hidden />
            </button>
          </div>
          {props.children([...path, index])}
        </fieldset>
      ))}
      <div className="pt-1 sm:col-span-2">
        <button
          type="button"
          className="btn btn-sm"
          onClick={() => {
            form.change(put(form.draft, [...path, count], props.fresh));
          }}
        >
          <Plus className="size-3.5" aria-hidden /> {what}
        </button>
      </div>
    </>
  );
}
