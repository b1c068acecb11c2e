import type { InstallState, MachineRow } from "../api/client";

/** The state of a machine's last install, for the drawing of its way. */
export function routeState(row: MachineRow): InstallState | "idle" {
  return row.stage;
}
