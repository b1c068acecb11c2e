import { useCallback, useEffect, useState } from "react";

const KEY = "lastmile-theme";

function preferred(): boolean {
  const kept = window.localStorage.getItem(KEY);
  return kept ? kept === "night" : window.matchMedia("(prefers-color-scheme: dark)").matches;
}

/** Day or night: what was chosen here before, else what the system prefers. */
export function useTheme() {
  const [dark, setDark] = useState(preferred);
  useEffect(() => {
    document.documentElement.dataset.theme = dark ? "night" : "day";
  }, [dark]);
  const toggle = useCallback(() => {
    setDark((was) => {
      window.localStorage.setItem(KEY, was ? "day" : "night");
      return !was;
    });
  }, []);
  return { dark, toggle };
}
