import { answer, api } from "../api/client";

/** Names that fit into an address. */
const IN_ADDRESS = 200;

/** Machines as the CSV text that an import reads. */
export async function exported(machines: string[]): Promise<string> {
  if (machines.length <= IN_ADDRESS) {
    return read(machines.join(","));
  }
  // Of many, all are read, and those that are not wanted left out: a machine's name is what its line begins with.
  const wanted = new Set(machines);
  const [head = "", ...lines] = (await read(undefined)).split("\n");
  const kept = lines.filter((line) => wanted.has(line.slice(0, line.indexOf(","))));
  return [head, ...kept, ""].join("\n");
}

async function read(machines: string | undefined): Promise<string> {
  const query = machines === undefined ? {} : { machines };
  return answer(await api.GET("/api/v1/exports/machines", { params: { query }, parseAs: "text" }));
}
