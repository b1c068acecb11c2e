import { useEffect, useState } from "react";

/** The present time, told afresh every `everyMs`. */
export function useNow(everyMs = 1000): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const timer = window.setInterval(() => {
      setNow(Date.now());
    }, everyMs);
    return () => {
      window.clearInterval(timer);
    };
  }, [everyMs]);
  return now;
}

/** How long ago, in the largest unit that fits. */
export function ago(at: string | null | undefined, now: number): string {
  if (!at) {
    return "–";
  }
  const secs = Math.max(0, Math.round((now - Date.parse(at)) / 1000));
  if (secs < 120) {
    return `${secs} s ago`;
  }
  if (secs < 7200) {
    return `${Math.floor(secs / 60)} min ago`;
  }
  return secs < 172_800 ? `${Math.floor(secs / 3600)} h ago` : `${Math.floor(secs / 86_400)} d ago`;
}

/** A span in seconds or minutes. */
export function span(from: string, to: string | number): string {
  const end = typeof to === "number" ? to : Date.parse(to);
  const secs = Math.max(0, (end - Date.parse(from)) / 1000);
  if (secs < 10) {
    return `${secs.toFixed(1)} s`;
  }
  return secs < 120 ? `${Math.round(secs)} s` : `${Math.round(secs / 60)} min`;
}

/** The time today, date and time on another day; in the reader's zone and as their place writes them. */
export function clock(at: string): string {
  const when = new Date(at);
  const isToday = when.toDateString() === new Date().toDateString();
  return isToday
    ? when.toLocaleTimeString(undefined, { timeStyle: "medium" })
    : when.toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });
}

/** Date, time and zone, to the second. */
export function exact(at: string): string {
  return new Date(at).toLocaleString(undefined, { dateStyle: "full", timeStyle: "long" });
}
