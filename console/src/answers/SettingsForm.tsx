import { useEffect, useRef, useState } from "react";

import { Prose } from "../parts/Prose";
import {
  AnswerField,
  ChoiceField,
  type Form,
  Group,
  ListField,
  LongField,
  NumberField,
  PasswordField,
  TextField,
  YesNoField,
} from "./Fields";
import { Listed, Named } from "./Named";
import { at, inWords, type Path } from "./draft";
import { type Field, FIELDS, fresh, isPlain } from "./fields";

/** Keys that answers have and no other layer. */
const ANSWERS_ONLY = ["images", "installer_parameters", "without_installer_parameters"];

/** The settings, as a form that follows their schema. An empty field shows what it would be without it. */
export function SettingsForm({ form, answers }: { form: Form; answers: boolean }) {
  const [help, setHelp] = useState("");
  const fields = FIELDS.filter((field) => answers || !ANSWERS_ONLY.includes(field.key));
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const form = box.current;
    const explain = (event: FocusEvent) => {
      const described = (event.target as Element).getAttribute("aria-describedby");
      setHelp(document.getElementById(described ?? "")?.textContent ?? "");
    };
    form?.addEventListener("focusin", explain);
    return () => {
      form?.removeEventListener("focusin", explain);
    };
  }, []);
  return (
    <div ref={box} aria-label="Settings">
      <Group title="General" says>
        <Entries form={form} fields={fields.filter(isPlain)} path={[]} />
      </Group>
      {fields
        .filter((field) => !isPlain(field))
        .map((field) => (
          <Group key={field.key} title={field.label} says={at(form.draft, [field.key]) !== undefined}>
            <Help text={field.help} />
            <Entry form={form} field={field} path={[field.key]} />
          </Group>
        ))}
      <p className="sticky -bottom-8 z-10 -mb-8 min-h-18 border-t border-base-300 bg-base-100 pt-1 pb-8 text-xs text-base-content/75">
        <Prose text={help} />
      </p>
    </div>
  );
}

/** What a table, or several of the same, are for. */
function Help({ text }: { text: string }) {
  return (
    <p className="text-xs text-base-content/75 sm:col-span-2">
      <Prose text={text} />
    </p>
  );
}

/** Keys beside each other; tables below the others fold away under a heading of their own. */
function Entries({ form, fields, path }: { form: Form; fields: readonly Field[]; path: Path }) {
  return fields.map((field) => {
    const inner = [...path, field.key];
    if (isPlain(field)) {
      return <Entry key={field.key} form={form} field={field} path={inner} />;
    }
    return (
      <details key={field.key} className="sm:col-span-2" open={field.fields === undefined || at(form.draft, inner) !== undefined}>
        <summary className="cursor-pointer pt-1">{field.label}</summary>
        <div className="grid gap-x-4 gap-y-1 sm:grid-cols-[9rem_minmax(0,1fr)]">
          <Help text={field.help} />
          <Entry form={form} field={field} path={inner} />
        </div>
      </details>
    );
  });
}

/** What one key is entered by. */
function Entry({ form, field, path }: { form: Form; field: Field; path: Path }) {
  const { label, help, kind, one = "" } = field;
  const props = { form, path, label, help, hint: field.example === undefined ? undefined : `e.g. ${inWords(field.example)}` };
  switch (kind) {
    case "table":
      return <Entries form={form} fields={field.fields ?? []} path={path} />;
    case "named":
      return (
        <Named form={form} path={path} what={one} fresh={fresh(field.of?.fields)}>
          {(_, inner) =>
            field.of?.fields === undefined ? (
              <LongField form={form} path={inner} label="Script" help={help} />
            ) : (
              <Entries form={form} fields={field.of.fields} path={inner} />
            )
          }
        </Named>
      );
    case "listed":
      return (
        <Listed form={form} path={path} what={one} fresh={fresh(field.fields)}>
          {(inner) => <Entries form={form} fields={field.fields ?? []} path={inner} />}
        </Listed>
      );
    case "number":
      return <NumberField {...props} />;
    case "long-text":
      return <LongField {...props} />;
    case "list":
      return <ListField {...props} />;
    case "yes-no":
      return <YesNoField {...props} />;
    case "choice":
      return <ChoiceField {...props} choices={field.choices ?? []} />;
    case "password":
    case "passphrase":
      return <PasswordField {...props} passphrase={kind === "passphrase"} />;
    case "answer":
      return <AnswerField {...props} />;
    default:
      return <TextField {...props} />;
  }
}
