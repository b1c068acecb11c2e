import { useId, type ReactNode } from "react";

import type { Fault, SettingsDraft } from "../api/client";
import { Prose } from "../parts/Prose";
import { at, inWords, type Path, put } from "./draft";

/** What every field of the form works on. */
export interface Form {
  draft: SettingsDraft;
  change: (draft: SettingsDraft) => void;
  /** What the layers come to, where it is known. */
  resolved: unknown;
  /** Where each value comes from, by its path. */
  origins: Record<string, string>;
  faults: Fault[];
  /** How this layer is called as an origin. */
  self: string;
}

function text(path: Path): string {
  return path.reduce<string>((whole, key) => {
    if (typeof key === "number") {
      return `${whole}[${key}]`;
    }
    return whole === "" ? key : `${whole}.${key}`;
  }, "");
}

/** A label, its field, and under it where the value comes from or what is wrong with it. */
function Row(props: { form: Form; path: Path; label: string; id: string; children: ReactNode; own: boolean }) {
  const { form, path, label, id, own } = props;
  const place = text(path);
  const faults = form.faults.filter((fault) => fault.place === place || fault.place.startsWith(`${place}[`));
  const origin = form.origins[place];
  return (
    <>
      <label htmlFor={id} className="pt-1 text-base-content/75">
        {label}
      </label>
      <div className="min-w-0">
        {props.children}
        {!own && origin !== undefined && origin !== form.self && (
          <p className="text-xs text-base-content/70">{origin === "built in" ? origin : `from ${origin}`}</p>
        )}
        {faults.map((fault) => (
          <p key={fault.place + fault.what} className="text-xs text-error">
            {fault.what}. <Prose text={fault.mend} />
          </p>
        ))}
      </div>
    </>
  );
}

interface FieldProps {
  form: Form;
  path: Path;
  label: string;
  hint?: string | undefined;
}

/** One line of text. */
export function TextField({ form, path, label, hint }: FieldProps) {
  const id = useId();
  const value = at(form.draft, path);
  return (
    <Row form={form} path={path} label={label} id={id} own={value !== undefined}>
      <input
        id={id}
        name={text(path)}
        className="input input-sm w-full"
        value={inWords(value)}
        placeholder={inWords(at(form.resolved, path)) || hint}
        onChange={(event) => {
          form.change(put(form.draft, path, event.target.value));
        }}
      />
    </Row>
  );
}

/** A list, with an item a line. */
export function ListField({ form, path, label, hint }: FieldProps) {
  const value = at(form.draft, path);
  const lines = Array.isArray(value) ? (value as string[]) : [];
  return (
    <Area
      form={form}
      path={path}
      label={label}
      text={lines.join("\n")}
      rows={Math.max(1, Math.min(lines.length, 8))}
      hint={inWords(at(form.resolved, path)) || hint}
      change={(typed) => (typed === "" ? undefined : typed.split("\n"))}
    />
  );
}

/** A text of several lines: a script, a part of a file. */
export function LongField({ form, path, label, hint }: FieldProps) {
  const text = inWords(at(form.draft, path));
  const rows = Math.max(3, Math.min(text.split("\n").length, 16));
  return <Area form={form} path={path} label={label} text={text} rows={rows} hint={hint} change={(typed) => typed} />;
}

/** A field of several lines. What is typed becomes the value that `change` makes of it. */
function Area(props: FieldProps & { text: string; rows: number; change: (typed: string) => unknown }) {
  const { form, path, label } = props;
  const id = useId();
  return (
    <Row form={form} path={path} label={label} id={id} own={at(form.draft, path) !== undefined}>
      <textarea
        id={id}
        name={text(path)}
        className="textarea textarea-sm min-h-8 w-full font-mono text-xs"
        rows={props.rows}
        spellCheck={false}
        value={props.text}
        placeholder={props.hint}
        onChange={(event) => {
          form.change(put(form.draft, path, props.change(event.target.value)));
        }}
      />
    </Row>
  );
}

/** One of several words. */
export function ChoiceField({ choices, ...props }: FieldProps & { choices: Record<string, string> }) {
  const inherited = inWords(at(props.form.resolved, props.path));
  return (
    <Choice
      {...props}
      choices={choices}
      value={inWords(at(props.form.draft, props.path))}
      otherwise={inherited === "" ? "not said" : (choices[inherited] ?? inherited)}
      change={(chosen) => chosen}
    />
  );
}

/** Yes, no, or not said here. */
export function YesNoField(props: FieldProps) {
  const value = at(props.form.draft, props.path);
  return (
    <Choice
      {...props}
      choices={{ true: "yes", false: "no" }}
      value={typeof value === "boolean" ? String(value) : ""}
      otherwise={at(props.form.resolved, props.path) === true ? "yes" : "no"}
      change={(chosen) => (chosen === "" ? undefined : chosen === "true")}
    />
  );
}

/** A list to choose from. Its first line is what it would be otherwise. */
function Choice(
  props: FieldProps & {
    choices: Record<string, string>;
    value: string;
    otherwise: string;
    change: (chosen: string) => unknown;
  },
) {
  const { form, path, label, value } = props;
  const id = useId();
  return (
    <Row form={form} path={path} label={label} id={id} own={value !== ""}>
      <select
        id={id}
        name={text(path)}
        className="select select-sm w-full"
        value={value}
        onChange={(event) => {
          form.change(put(form.draft, path, props.change(event.target.value)));
        }}
      >
        <option value="">{value === "" ? props.otherwise : "not said here"}</option>
        {Object.entries(props.choices).map(([word, words]) => (
          <option key={word} value={word}>
            {words}
          </option>
        ))}
      </select>
    </Row>
  );
}

/** How a password is given. It is never shown again. */
const WAYS: Record<string, string> = {
  set: "as it is",
  plain: "new; only its hash is kept",
  sealed: "new; kept encrypted too, for formats that take no hash",
  hash: "as a crypt(3) hash",
};

/** A password or passphrase. */
export function PasswordField({ form, path, label, passphrase }: FieldProps & { passphrase?: boolean }) {
  const id = useId();
  const value = at(form.draft, path);
  const way = value === "set" ? "set" : (Object.keys((value ?? {}))[0] ?? "");
  const typed = way === "set" || way === "" ? "" : inWords(at(value, [way]));
  const change = (next: unknown) => {
    form.change(put(form.draft, path, next));
  };
  const ways = Object.entries(WAYS).filter(([word]) => !passphrase || word === "set" || word === "plain");
  return (
    <Row form={form} path={path} label={label} id={id} own={value !== undefined}>
      <div className="flex flex-wrap gap-1">
        <select
          id={id}
          name={text(path)}
          className="select select-sm w-full sm:w-auto sm:flex-1"
          value={way}
          onChange={(event) => {
            const chosen = event.target.value;
            change(chosen === "" ? undefined : chosen === "set" ? "set" : { [chosen]: typed });
          }}
        >
          <option value="">{inWords(at(form.resolved, path)) === "set" && way === "" ? "set in another layer" : "none"}</option>
          {ways.map(([word, words]) => (
            <option key={word} value={word}>
              {passphrase && word === "plain" ? "new; kept encrypted" : words}
            </option>
          ))}
        </select>
        {way !== "" && way !== "set" && (
          <input
            type={way === "hash" ? "text" : "password"}
            autoComplete="new-password"
            aria-label={`${label}: ${way}`}
            className="input input-sm w-full sm:flex-1"
            value={typed}
            onChange={(event) => {
              change({ [way]: event.target.value });
            }}
          />
        )}
      </div>
    </Row>
  );
}

/** Fields under a heading that can be folded away. Those that say something are open. */
export function Group(props: { title: string; says: boolean; children: ReactNode }) {
  return (
    <details className="mb-3 border-b border-base-300 pb-3" open={props.says}>
      <summary className="mb-1 cursor-pointer font-semibold">{props.title}</summary>
      <div className="grid gap-x-4 gap-y-1 sm:grid-cols-[9rem_minmax(0,1fr)]">{props.children}</div>
    </details>
  );
}
