import { useEffect, useState } from "react";

/** How long a person pauses before what they type is looked at. */
const PAUSE_MS = 200;

/** A value as it was when it last rested. */
export function useRested<T>(value: T): T {
  const [rested, setRested] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => {
      setRested(value);
    }, PAUSE_MS);
    return () => {
      window.clearTimeout(timer);
    };
  }, [value]);
  return rested;
}
