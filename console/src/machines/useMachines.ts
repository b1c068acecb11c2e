import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";

import { answer, api, edited, type MachineRow, type Stage } from "../api/client";

/** Rows read at once. */
export const PAGE = 100;

export type Sort = "stage" | "name" | "seen" | "image";

export interface Filter {
  text: string;
  /** A label that the machines have; any if empty. */
  label: string;
  stages: Wanted[];
  /** A condition on what was measured of them; none if empty. */
  where: string;
  sort: Sort;
  reverse: boolean;
  /** The columns that are shown beside the name, by their keys. */
  columns: ColumnKey[];
  /** Further columns, by what was measured: `memory_gib`, `disks | length`. */
  facts: string[];
  /** Which of these the list is ordered by, in the place of `sort`; none if empty. */
  sortBy: string;
}

/** A stage, or machines at rest that are something else than was expected. */
export type Wanted = Stage | "differs";

/** Columns that can be left out. */
export type ColumnKey = "progress" | "stage" | "image" | "labels" | "address" | "mac" | "seen";

/** What the service is asked for a filter. */
export function queryOf(filter: Filter) {
  return {
    ...(filter.text && { text: filter.text }),
    ...(filter.label && { label: filter.label }),
    ...(filter.where && { where: filter.where }),
    ...(filter.stages.length > 0 && { stage: filter.stages.join(",") }),
  };
}

function page(filter: Filter, number: number) {
  return {
    queryKey: ["machines", filter, number],
    placeholderData: keepPreviousData,
    queryFn: async () => {
      const query = {
        ...queryOf(filter),
        sort: filter.sort,
        ...(filter.facts.length > 0 && { columns: filter.facts.join(";") }),
        ...(filter.sortBy && { sort_by: filter.sortBy }),
        reverse: filter.reverse,
        limit: PAGE,
        offset: number * PAGE,
      };
      return answer(await api.GET("/api/v1/machines", { params: { query } }));
    },
  };
}

/** How many machines the filter lets through, how many there are at each stage, and how the reading went. */
export function useMachineCounts(filter: Filter) {
  return useQuery(page(filter, 0));
}

/** The rows of the pages that hold `from` to `to`; a row not read yet is `undefined`. */
export function useMachineRows(filter: Filter, from: number, to: number): (index: number) => MachineRow | undefined {
  const first = Math.floor(from / PAGE);
  const numbers = Array.from({ length: Math.floor(to / PAGE) - first + 1 }, (_, i) => first + i);
  const pages = useQueries({ queries: numbers.map((number) => page(filter, number)) });
  return (index) => pages[Math.floor(index / PAGE) - first]?.data?.machines[index % PAGE];
}

/** One machine, with its plan and its trace. */
export function useMachine(name: string) {
  return useQuery({
    queryKey: ["machine", name],
    queryFn: async () => edited(await api.GET("/api/v1/machines/{name}", { params: { path: { name } } })),
  });
}
