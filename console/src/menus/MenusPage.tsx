import { useState } from "react";
import { Link, useNavigate } from "react-router";

import type { MenuView } from "../api/client";
import { Answered, Empty } from "../parts/States";
import { type Column, Table } from "../parts/Table";
import { useMenus } from "./useMenus";
import { Who } from "./Who";

const COLUMNS: Column<MenuView>[] = [
  {
    name: "Name",
    value: (menu) => menu.name,
    cell: (menu) => (
      <Link className="link-hover font-medium" to={`/menus/${menu.name}`}>
        {menu.name}
      </Link>
    ),
  },
  { name: "Title", show: "hidden sm:table-cell", value: (menu) => menu.title ?? "" },
  { name: "Entries", value: (menu) => menu.entries?.length ?? 0 },
  {
    name: "Starts by itself",
    show: "hidden lg:table-cell",
    value: (menu) =>
      menu.timeout_secs == null ? "waits for a person" : `${menu.default ?? "the first"} after ${menu.timeout_secs} s`,
  },
  { name: "Shown by", value: (menu) => menu.shown_by.join(", ") || "nobody" },
];

export function MenusPage() {
  const menus = useMenus();
  const [name, setName] = useState("");
  const go = useNavigate();
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="mb-3 flex flex-wrap items-center gap-4">
        <h1 className="text-lg font-semibold">{menus.data ? `${menus.data.length} menus` : "Menus"}</h1>
        <form
          className="flex min-w-0 gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            void go(`/menus/${name.trim()}`);
          }}
        >
          <input
            className="input input-sm w-44 min-w-0 shrink"
            aria-label="Name of a new menu"
            placeholder="name of a new menu"
            value={name}
            onChange={(event) => {
              setName(event.target.value);
            }}
          />
          <button type="submit" className="btn btn-sm" disabled={name.trim() === ""}>
            Add
          </button>
        </form>
      </div>
      <Answered query={menus} rows={3}>
        {(all) =>
          all.length === 0 ? (
            <Empty title="There is no menu yet">
              Machines that are set to show a menu are shown the one that is built in: local disk, set-up, restart, power
              off.
            </Empty>
          ) : (
            <Table label="Menus" rows={all} columns={COLUMNS} keyOf={(menu) => menu.name} />
          )
        }
      </Answered>
      {menus.data && <Who menus={menus.data} />}
    </div>
  );
}
