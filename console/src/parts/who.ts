/** Whether somebody is known by a MAC address only: a newcomer. */
export function isNewcomer(who: string): boolean {
  return /^[\da-f]{2}(:[\da-f]{2}){5}$/i.test(who);
}

/** The page of a machine, at that tab; of a newcomer, what was measured of it. */
export function pageOf(who: string, tab = "rules"): string {
  return isNewcomer(who) ? `/facts/${encodeURIComponent(who)}` : `/machines/${encodeURIComponent(who)}?tab=${tab}`;
}
