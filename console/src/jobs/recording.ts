/** Something that a screen showed, so many seconds after the beginning. */
export interface Shown {
  after: number;
  /** What was written on it; a size if it was given another one. */
  written?: string;
  size?: { columns: number; rows: number };
}

/** Reads a recording of a terminal (asciicast, version 2): a head and then events, each a line of JSON. */
export function read(text: string): Shown[] {
  const [, ...lines] = text.split("\n");
  return lines.flatMap((line): Shown[] => {
    if (line === "") {
      return [];
    }
    const [after, code, data] = JSON.parse(line) as [number, string, string];
    if (code === "r") {
      const [columns, rows] = data.split("x").map(Number);
      return columns === undefined || rows === undefined ? [] : [{ after, size: { columns, rows } }];
    }
    return code === "o" ? [{ after, written: data }] : [];
  });
}
