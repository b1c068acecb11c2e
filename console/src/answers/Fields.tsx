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
function Row(props: {
  form: Form;
  path: Path;
  label: string;
  help: string;
  id: string;
  children: ReactNode;
  own: boolean;
}) {
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
        <span id={`${id}-help`} hidden>
          {props.help}
        </span>
        {!own && origin !== undefined && origin !== form.self && (
          <p className="text-xs text-base-content/70">{origin === "built in" ? origin : `from ${origin}`}</p>
        )}
        {faults.map((fault) => (
          <p key={fault.place + fault.what} className="text-xs text-error">
            {fault.what}. <Prose text={fault.fix} />
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
  /** What it means: shown below the form while the field is the one that is typed in. */
  help: string;
  hint?: string | undefined;
}

/** A whole number. What is none stays as it was typed, for the service to say so. */
export function NumberField(props: FieldProps) {
  return <TextField {...props} read={(typed) => (/^\d+$/.test(typed) ? Number(typed) : typed)} />;
}

/** One line of text; `read` makes the value of it. */
export function TextField(props: FieldProps & { read?: (typed: string) => unknown }) {
  const { form, path, label, hint, read } = props;
  const id = useId();
  const value = at(form.draft, path);
  return (
    <Row form={form} path={path} label={label} help={props.help} id={id} own={value !== undefined}>
      <input
        id={id}
        name={text(path)}
        className="input input-sm w-full"
        value={inWords(value)}
        placeholder={inWords(at(form.resolved, path)) || hint}
        aria-describedby={`${id}-help`}
        onChange={(event) => {
          const typed = event.target.value;
          form.change(put(form.draft, path, read ? read(typed) : typed));
        }}
      />
    </Row>
  );
}

/** A list, with an item a line. */
export function ListField({ form, path, label, help, hint }: FieldProps) {
  const value = at(form.draft, path);
  const lines = Array.isArray(value) ? (value as string[]) : [];
  return (
    <Area
      form={form}
      path={path}
      label={label}
      help={help}
      text={lines.join("\n")}
      rows={Math.max(1, Math.min(lines.length, 8))}
      hint={inWords(at(form.resolved, path)) || hint}
      change={(typed) => (typed === "" ? undefined : typed.split("\n"))}
    />
  );
}

/** A text of several lines: a script, a part of a file. */
export function LongField(props: FieldProps) {
  const { form, path } = props;
  const text = inWords(at(form.draft, path));
  const rows = Math.max(3, Math.min(text.split("\n").length, 16));
  return <Area {...props} text={text} rows={rows} change={(typed) => typed} />;
}

/** A field of several lines. What is typed becomes the value that `change` makes of it. */
function Area(props: FieldProps & { text: string; rows: number; change: (typed: string) => unknown }) {
  const { form, path, label } = props;
  const id = useId();
  return (
    <Row form={form} path={path} label={label} help={props.help} id={id} own={at(form.draft, path) !== undefined}>
      <textarea
        id={id}
        name={text(path)}
        className="textarea textarea-sm min-h-8 w-full font-mono text-xs"
        rows={props.rows}
        spellCheck={false}
        value={props.text}
        placeholder={props.hint}
        aria-describedby={`${id}-help`}
        onChange={(event) => {
          form.change(put(form.draft, path, props.change(event.target.value)));
        }}
      />
    </Row>
  );
}

/** One of several words. */
export function ChoiceField({ choices, ...props }: FieldProps & { choices: readonly string[] }) {
  const inherited = inWords(at(props.form.resolved, props.path));
  return (
    <Choice
      {...props}
      choices={Object.fromEntries(choices.map((word) => [word, word]))}
      value={inWords(at(props.form.draft, props.path))}
      otherwise={inherited === "" ? "not said" : inherited}
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
    <Row form={form} path={path} label={label} help={props.help} id={id} own={value !== ""}>
      <select
        id={id}
        name={text(path)}
        className="select select-sm w-full"
        value={value}
        aria-describedby={`${id}-help`}
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
export function PasswordField({ passphrase, ...props }: FieldProps & { passphrase?: boolean }) {
  const { form, path, label } = props;
  const id = useId();
  const value = at(form.draft, path);
  const way = value === "set" ? "set" : (Object.keys((value ?? {}))[0] ?? "");
  const typed = way === "set" || way === "" ? "" : inWords(at(value, [way]));
  const change = (next: unknown) => {
    form.change(put(form.draft, path, next));
  };
  const ways = Object.entries(WAYS).filter(([word]) => !passphrase || word === "set" || word === "plain");
  return (
    <Row form={form} path={path} label={label} help={props.help} id={id} own={value !== undefined}>
      <div className="flex flex-wrap gap-1">
        <select
          id={id}
          name={text(path)}
          className="select select-sm w-full sm:w-auto sm:flex-1"
          value={way}
          aria-describedby={`${id}-help`}
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

/** What is taken as the answer to a question; a choice has its words beside it. */
export function AnswerField(props: FieldProps) {
  const { form, path, label } = props;
  const id = useId();
  const value = at(form.draft, path);
  const isChoice = typeof value === "object";
  return (
    <>
      <Row form={form} path={path} label={label} help={props.help} id={id} own>
        <select
          id={id}
          name={text(path)}
          className="select select-sm w-full"
          aria-describedby={`${id}-help`}
          value={isChoice ? "choice" : typeof value === "string" ? value : "text"}
          onChange={(event) => {
            const kind = event.target.value;
            form.change(put(form.draft, path, kind === "choice" ? { choice: ["first", "second"] } : kind));
          }}
        >
          <option value="text">text</option>
          <option value="number">number</option>
          <option value="yes-no">yes or no</option>
          <option value="choice">one of several</option>
        </select>
      </Row>
      {isChoice && <ListField {...props} path={[...path, "choice"]} label="Choices" />}
    </>
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
