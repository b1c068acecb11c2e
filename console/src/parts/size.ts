const UNITS = ["bytes", "KiB", "MiB", "GiB", "TiB"];

/** Bytes in the unit that a person reads at a glance. */
export function size(bytes: number): string {
  let unit = 0;
  let value = bytes;
  while (value >= 1024 && unit < UNITS.length - 1) {
    value /= 1024;
    unit += 1;
  }
  return `${unit === 0 ? value : value.toFixed(value < 10 ? 2 : 1)} ${UNITS[unit] ?? ""}`;
}

/** Seconds as a person says them. */
export function duration(secs: number): string {
  if (secs < 1) {
    return "under a second";
  }
  return secs < 120 ? `${Math.round(secs)} s` : `${Math.round(secs / 60)} min`;
}
