import { useMutation, useQueryClient } from "@tanstack/react-query";

import { api, type Edited, edited, type MachineDetail } from "../api/client";
import { useAllAnswers } from "../answers/useAnswers";
import { useImages } from "../images/useImages";
import { useMenus } from "../menus/useMenus";
import { Conflict } from "../parts/Conflict";
import { Refusal } from "../parts/Faults";
import { useDraft } from "../parts/useDraft";

interface Fields {
  default_boot: string;
  menu: string;
  liveAnswers: string;
  labels: string;
  details: string;
  parameters: string;
  withoutParameters: string;
}

function toFields(machine: MachineDetail): Fields {
  return {
    default_boot: machine.default_boot,
    menu: machine.menu ?? "",
    liveAnswers: machine.live_answers ?? "",
    labels: machine.labels.join(" "),
    details: Object.entries(machine.details)
      .map(([name, value]) => `${name}=${value}`)
      .join("\n"),
    parameters: machine.parameters.join("\n"),
    withoutParameters: machine.without_parameters.join(" "),
  };
}

const words = (text: string) => text.split(/[\s,]+/).filter((word) => word !== "");
const lines = (text: string) => text.split("\n").filter((line) => line.trim() !== "");

function pair(line: string): [string, string] {
  const at = line.indexOf("=");
  return at < 0 ? [line.trim(), ""] : [line.slice(0, at).trim(), line.slice(at + 1).trim()];
}

/** Changes what a machine does when no install is armed, and what is known of it. */
export function MachineSettings({ machine }: { machine: Edited<MachineDetail> }) {
  const { draft: fields, setDraft: setFields, headers, take, rebase } = useDraft<MachineDetail, Fields>(machine, (saved) =>
    toFields(saved ?? machine),
  );
  const images = useImages();
  const menus = useMenus();
  const answers = useAllAnswers();
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: async (etag?: string) => {
      const { default_boot } = fields;
      const isLive = default_boot.startsWith("live:");
      const body = {
        name: machine.name,
        macs: machine.macs,
        options: machine.options,
        default_boot,
        menu: fields.menu || null,
        live_answers: (isLive && fields.liveAnswers) || null,
        labels: words(fields.labels),
        details: Object.fromEntries(lines(fields.details).map(pair)),
        parameters: lines(fields.parameters),
        without_parameters: words(fields.withoutParameters),
      };
      const params = { path: { name: machine.name } };
      return edited(await api.PUT("/api/v1/machines/{name}", { params, headers: headers(etag), body }));
    },
    onSuccess: async ({ etag }) => {
      rebase(etag);
      await queries.invalidateQueries();
    },
  });
  const set = (part: Partial<Fields>) => {
    setFields({ ...fields, ...part });
  };
  const area = (field: "details" | "parameters" | "withoutParameters", label: string, hint: string) => (
    <label className="block">
      <span className="text-base-content/75">{label}</span>
      <textarea
        className="textarea textarea-sm min-h-0 w-full font-mono"
        rows={2}
        placeholder={hint}
        value={fields[field]}
        onChange={(event) => {
          set({ [field]: event.target.value });
        }}
      />
    </label>
  );
  return (
    <form
      className="space-y-1"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(undefined);
      }}
    >
      <label className="block">
        <span className="text-base-content/75">When no install is armed</span>
        <select
          className="select select-sm w-full"
          value={fields.default_boot}
          onChange={(event) => {
            set({ default_boot: event.target.value });
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
      </label>
      {fields.default_boot.startsWith("live:") && (
        <label className="block">
          <span className="text-base-content/75">Answers that it is given at each start</span>
          <select
            className="select select-sm w-full"
            value={fields.liveAnswers}
            onChange={(event) => {
              set({ liveAnswers: event.target.value });
            }}
          >
            <option value="">none: it runs the image as it is</option>
            {(answers.data ?? [])
              .filter(({ name }) => !name.includes(":"))
              .map(({ name }) => (
                <option key={name}>{name}</option>
              ))}
          </select>
        </label>
      )}
      <label className="block">
        <span className="text-base-content/75">Its menu</span>
        <select
          className="select select-sm w-full"
          value={fields.menu}
          onChange={(event) => {
            set({ menu: event.target.value });
          }}
        >
          <option value="">that of its labels, its subnet or the site</option>
          {(menus.data ?? []).map((menu) => (
            <option key={menu.name} value={menu.name}>
              {menu.name}
            </option>
          ))}
        </select>
      </label>
      <label className="block">
        <span className="text-base-content/75">Labels</span>
        <input
          className="input input-sm w-full"
          placeholder="kiosk spare"
          value={fields.labels}
          onChange={(event) => {
            set({ labels: event.target.value });
          }}
        />
      </label>
      {area("details", "Details, one on each line", "rack=7")}
      {area("parameters", "Kernel parameters, one on each line", "ip={{ address }}")}
      {area("withoutParameters", "Without these kernel parameters (keys)", "quiet")}
      <Refusal error={save.error} />
      <Conflict
        save={save}
        theirs={() => {
          take(machine);
        }}
      />
      <div className="flex items-center gap-3">
        <button type="submit" className="btn btn-sm" disabled={save.isPending}>
          Save
        </button>
        <span role="status" className="text-success">
          {save.isSuccess && "saved"}
        </span>
      </div>
    </form>
  );
}
