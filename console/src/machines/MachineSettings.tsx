import { useMutation, useQueryClient } from "@tanstack/react-query";

import { useAllAnswers } from "../answers/useAnswers";
import { api, basedOn, done, type Edited, edited, type MachineDetail } from "../api/client";
import { useImages } from "../images/useImages";
import { useMenus } from "../menus/useMenus";
import { Field, lines, pairLines, pairs, words } from "../parts/Form";
import { NotSaved, PageEnd } from "../parts/FormEnd";
import { NameActions } from "../parts/NameActions";
import { useDraft } from "../parts/useDraft";

const FIELDS = [
  "macs",
  "labels",
  "details",
  "default_boot",
  "menu",
  "live_answers",
  "parameters",
  "without_parameters",
  "options",
];

interface Draft {
  macs: string;
  labels: string;
  details: string;
  default_boot: string;
  live_answers: string;
  menu: string;
  parameters: string;
  without_parameters: string;
  options: string;
}

function toDraft(machine: MachineDetail): Draft {
  return {
    macs: machine.macs.join("\n"),
    labels: machine.labels.join(" "),
    details: pairLines(machine.details),
    default_boot: machine.default_boot,
    live_answers: machine.live_answers ?? "",
    menu: machine.menu ?? "",
    parameters: machine.parameters.join("\n"),
    without_parameters: machine.without_parameters.join(" "),
    options: pairLines(machine.options),
  };
}

/** Changes everything that people say of a machine. */
export function MachineSettings({ machine }: { machine: Edited<MachineDetail> }) {
  const { draft, setDraft, headers, take, rebase } = useDraft<MachineDetail, Draft>(machine, (saved) => toDraft(saved ?? machine));
  const images = useImages();
  const menus = useMenus();
  const answers = useAllAnswers();
  const queries = useQueryClient();
  const put = async (name: string, entered: Draft, etag?: string) => {
    const isLive = entered.default_boot.startsWith("live:");
    const body = {
      name,
      macs: words(entered.macs),
      labels: words(entered.labels),
      details: pairs(entered.details),
      default_boot: entered.default_boot,
      live_answers: (isLive && entered.live_answers) || null,
      menu: entered.menu || null,
      parameters: lines(entered.parameters),
      without_parameters: words(entered.without_parameters),
      options: pairs(entered.options),
    };
    const params = { path: { name: machine.name } };
    return edited(await api.PUT("/api/v1/machines/{name}", { params, headers: headers(etag), body }));
  };
  const save = useMutation({
    mutationFn: (etag?: string) => put(machine.name, draft, etag),
    onSuccess: async ({ etag }) => {
      rebase(etag);
      await queries.invalidateQueries();
    },
  });
  const { error } = save;
  const set = (part: Partial<Draft>) => {
    setDraft({ ...draft, ...part });
  };
  const area = (field: "macs" | "details" | "parameters" | "options", label: string, example: string, hint?: string) => (
    <Field field={field} label={label} {...(hint !== undefined && { hint })} error={error}>
      <textarea
        className="textarea min-h-0 w-full font-mono"
        rows={Math.max(2, draft[field].split("\n").length)}
        placeholder={example}
        value={draft[field]}
        onChange={({ target }) => {
          set({ [field]: target.value });
        }}
      />
    </Field>
  );
  return (
    <form
      className="grid gap-x-6 gap-y-3 lg:grid-cols-2"
      aria-label="Machine"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(undefined);
      }}
    >
      <Field field="default_boot" label="While no install is armed" error={error}>
        <select
          className="select w-full"
          value={draft.default_boot}
          onChange={({ target }) => {
            set({ default_boot: target.value });
          }}
        >
          <option value="local-disk">it starts from its local disk</option>
          <option value="menu">it shows a menu</option>
          <option value="ignored">it gets no boot information</option>
          {(images.data ?? [])
            .filter((image) => image.kind === "live")
            .map((image) => (
              <option key={image.name} value={`live:${image.name}`}>
                it runs {image.title}
              </option>
            ))}
        </select>
      </Field>
      {draft.default_boot.startsWith("live:") && (
        <Field field="live_answers" label="Answers that it is given at each start" error={error}>
          <select
            className="select w-full"
            value={draft.live_answers}
            onChange={({ target }) => {
              set({ live_answers: target.value });
            }}
          >
            <option value="">none: it runs the image as it is</option>
            {(answers.data ?? [])
              .filter(({ name }) => !name.includes(":"))
              .map(({ name }) => (
                <option key={name} value={name}>{name}</option>
              ))}
          </select>
        </Field>
      )}
      <Field field="menu" label="Menu" error={error}>
        <select
          className="select w-full"
          value={draft.menu}
          onChange={({ target }) => {
            set({ menu: target.value });
          }}
        >
          <option value="">that of its labels, its subnet or the site</option>
          {(menus.data ?? []).map((menu) => (
            <option key={menu.name} value={menu.name}>
              {menu.name}
            </option>
          ))}
        </select>
      </Field>
      <Field field="labels" label="Labels" error={error}>
        <input
          className="input w-full"
          placeholder="kiosk spare"
          value={draft.labels}
          onChange={({ target }) => {
            set({ labels: target.value });
          }}
        />
      </Field>
      {area("macs", "MAC addresses, one on each line", "02:00:5e:00:53:01", "The first is the NIC it boots by.")}
      {area("details", "Details, one on each line", "rack=r12")}
      {area("parameters", "Kernel parameters, one on each line", "ip={{ address }}")}
      <Field field="without_parameters" label="Without these kernel parameters" hint="Keys, separated by blanks." error={error}>
        <input
          className="input w-full font-mono"
          placeholder="quiet"
          value={draft.without_parameters}
          onChange={({ target }) => {
            set({ without_parameters: target.value });
          }}
        />
      </Field>
      {area("options", "DHCP options, one on each line", "interface-mtu=1400", "They come before those of its subnet.")}
      <div className="lg:col-span-2">
        <NotSaved fields={FIELDS} save={save} theirs={() => { take(machine); }} />
      </div>
      <PageEnd save={save}>
        <NameActions
          noun="machine"
          name={machine.name}
          page={(of) => `/machines${of === undefined ? "" : `/${encodeURIComponent(of)}`}`}
          rename={(to) => put(to, toDraft(machine))}
          remove={async () => {
            const params = { path: { name: machine.name } };
            done(await api.DELETE("/api/v1/machines/{name}", { params, headers: basedOn(machine.etag) }));
          }}
          lost="It becomes an unknown machine to its subnet. Its installs stay on record; details, labels and settings of its own are lost."
        />
      </PageEnd>
    </form>
  );
}
