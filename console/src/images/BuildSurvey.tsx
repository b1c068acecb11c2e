import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { answer, api, type FileEntry, type SurveyBuild } from "../api/client";
import { Refusal } from "../parts/Faults";
import { Progress } from "../parts/Progress";
import { send } from "./upload";
import { useWork } from "./useImages";

/** Makes the system that machines are surveyed by, of the host's kernel or of packages. */
export function BuildSurvey() {
  const [source, setSource] = useState<"host" | "packages">("host");
  const [packages, setPackages] = useState<File[]>([]);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const work = useWork();
  const build = useMutation({
    mutationFn: async () => {
      const files: FileEntry[] = [];
      for (const file of source === "packages" ? packages : []) {
        files.push(await send({ path: file.name, file }, () => undefined, new AbortController().signal));
      }
      const kernel: SurveyBuild["kernel"] = source === "host" ? { from: "host" } : { from: "packages", files };
      return answer(await api.POST("/api/v1/survey/system", { body: { kernel } }));
    },
    onSuccess: async (image) => {
      await queries.invalidateQueries();
      await navigate(`/images/${image.name}`);
    },
  });
  const choice = (value: typeof source, text: string) => (
    <label className="flex items-center gap-2">
      <input
        type="radio"
        name="kernel"
        className="radio radio-sm"
        checked={source === value}
        onChange={() => {
          setSource(value);
        }}
      />
      {text}
    </label>
  );
  return (
    <form
      className="max-w-3xl space-y-3"
      onSubmit={(event) => {
        event.preventDefault();
        build.mutate();
      }}
    >
      <p className="text-base-content/75">
        Machines that boot the survey report their hardware and wait. Its system is a kernel with its drivers and the service's own agent. Files
        of the site are added with <code>lastmile survey build --add FOLDER</code>.
      </p>
      <fieldset className="space-y-1">
        <legend className="font-medium">Kernel and drivers</legend>
        {choice("host", "Those that the service's host runs")}
        {choice("packages", "Of Debian packages")}
      </fieldset>
      {source === "packages" && (
        <label className="block">
          One of a kernel, as linux-image-6.1.0-57-amd64, and any of firmware
          <input
            type="file"
            multiple
            accept=".deb"
            className="file-input file-input-sm mt-1 block"
            aria-label="Packages of the kernel"
            onChange={(event) => {
              setPackages([...(event.target.files ?? [])]);
            }}
          />
        </label>
      )}
      <Refusal error={build.error} title="Nothing was made." />
      {build.isPending &&
        work.map((piece) => <Progress key={piece.id} {...piece} leftSecs={piece.left_secs} />)}
      <button
        type="submit"
        className="btn btn-primary btn-sm"
        disabled={build.isPending || (source === "packages" && packages.length === 0)}
      >
        {build.isPending ? "Building …" : "Build the survey's system"}
      </button>
    </form>
  );
}
