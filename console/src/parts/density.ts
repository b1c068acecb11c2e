import { useState } from "react";

const KEY = "compact";

/** Whether rows are compact, as this person wants them; kept in the browser. */
export function useDensity(): [boolean, (compact: boolean) => void] {
  const [compact, setCompact] = useState(() => localStorage.getItem(KEY) !== "no");
  return [
    compact,
    (next) => {
      localStorage.setItem(KEY, next ? "yes" : "no");
      setCompact(next);
    },
  ];
}
