import type { InstallRow } from "../api/client";
import { duration } from "../parts/size";
import { useNow } from "../parts/time";

type Progress = NonNullable<InstallRow["progress"]>;

/** How far it is now: with the clock from when it was told, as far as the next milestone. */
function now(progress: Progress, at: number) {
  const passed = Math.max(0, (at - Date.parse(progress.at)) / 1000);
  const total = Math.max(1, progress.total_secs);
  const percent = Math.min(progress.ceiling, progress.percent + (100 * passed) / total);
  return { percent, left: Math.min(progress.left_secs, total * (1 - percent / 100)) };
}

/** How far an install is, by the clock of those before it: a bar with the time left. */
export function HowFar({ progress, wide = false }: { progress: Progress; wide?: boolean }) {
  const { percent, left } = now(progress, useNow());
  const said = `${Math.floor(percent)} %, ${duration(left)} left`;
  return (
    <span className={wide ? "block max-w-md" : "block"}>
      <progress
        className="progress progress-secondary block w-full"
        value={percent}
        max={100}
        aria-label={`${said}, as ${progress.learned_from} before it went`}
      />
      <span className="text-xs text-base-content/75">
        {said}
        {wide && `, by the clock of ${progress.learned_from} before it`}
      </span>
    </span>
  );
}
