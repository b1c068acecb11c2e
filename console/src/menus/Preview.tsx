import type { UseQueryResult } from "@tanstack/react-query";

import type { Language, MenuPreview } from "../api/client";
import { Parameters } from "../parts/Parameters";
import { MachinePicker } from "../parts/MachinePicker";
import { Failed, Loading } from "../parts/States";
import type { Viewer } from "./useMenus";
import { Preformatted } from "../parts/Preformatted";

const ARCHITECTURES = ["bios", "uefi-x64", "uefi-x86", "uefi-arm64", "uefi-arm32"];
const LANGUAGES: Record<Language, string> = {
  grub: "GRUB",
  pxelinux: "PXELINUX",
  script: "script",
};
/** The screen as the machine will show it, changing as somebody types beside it. */
export function Preview(props: {
  preview: UseQueryResult<MenuPreview>;
  viewer: Viewer;
  setViewer: (viewer: Viewer) => void;
}) {
  const { preview, viewer, setViewer } = props;
  const set = (part: Partial<Viewer>) => {
    setViewer({ ...viewer, ...part });
  };
  return (
    <section aria-label="What the machine shows" className="min-w-0 lg:sticky lg:top-0 lg:self-start">
      <div className="mb-2 flex flex-wrap gap-2">
        <MachinePicker
          value={viewer.machine}
          change={(machine) => {
            set({ machine });
          }}
        />
        <select
          className="select select-sm w-40"
          aria-label="Firmware"
          value={viewer.architecture}
          onChange={(event) => {
            set({ architecture: event.target.value });
          }}
        >
          <option value="">firmware: as known</option>
          {ARCHITECTURES.map((name) => (
            <option key={name} value={name}>{name}</option>
          ))}
        </select>
        <select
          className="select select-sm w-44"
          aria-label="Loader"
          value={viewer.language}
          onChange={(event) => {
            set({ language: event.target.value as Viewer["language"] });
          }}
        >
          <option value="">loader: as it would be</option>
          {Object.entries(LANGUAGES).map(([language, words]) => (
            <option key={language} value={language}>
              {words}
            </option>
          ))}
        </select>
      </div>
      <Failed query={preview} />
      {preview.isPending && <Loading rows={6} />}
      {preview.data && <Shown preview={preview.data} />}
    </section>
  );
}

function Shown({ preview }: { preview: MenuPreview }) {
  return (
    <>
      {preview.screens.map((screen) => (
        <figure key={screen.key} className="mb-3">
          {screen.key !== "" && <figcaption className="mb-1 text-base-content/75">Behind {screen.key}</figcaption>}
          <Preformatted label="Screen" className="bg-[oklch(18%_0.02_250)] p-3 font-mono text-xs leading-tight text-[oklch(88%_0.01_90)]">
            {screen.rows.map((row, number) => (
              <span
                key={number}
                className={`block w-max min-w-[78ch] ${number === screen.chosen ? "bg-[oklch(80%_0.01_90)] text-[oklch(20%_0.02_250)]" : ""}`}
              >
                {row === "" ? " " : row}
              </span>
            ))}
          </Preformatted>
        </figure>
      ))}
      {preview.left_out.length > 0 && (
        <div className="mb-3">
          <h3 className="font-semibold">This machine does not get</h3>
          <ul>
            {preview.left_out.map((entry) => (
              <li key={entry.title + entry.why}>
                {entry.title} <span className="text-base-content/70">because {entry.why}</span>
              </li>
            ))}
          </ul>
        </div>
      )}
      {preview.parameters.map((entry) => (
        <details key={entry.key} className="mb-2">
          <summary className="cursor-pointer">Kernel parameters of {entry.key}</summary>
          <Parameters words={entry.parameters} />
        </details>
      ))}
      <details>
        <summary className="cursor-pointer">The text that the loader gets ({LANGUAGES[preview.language]})</summary>
        <Preformatted label="Screen" className="mt-2 bg-base-200 p-2 text-xs">{preview.text}</Preformatted>
      </details>
    </>
  );
}
