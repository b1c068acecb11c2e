import { Moon, Search, Sun } from "lucide-react";
import { NavLink } from "react-router";

import type { Connection } from "../api/live";
import { useTheme } from "../parts/theme";
import { GROUPS, type Page, SETTINGS } from "./pages";

/** The pages, in groups, at the side. On narrow screens their icons alone. */
export function Navigation({ connection, search }: { connection: Connection; search: () => void }) {
  const { dark, toggle } = useTheme();
  return (
    <header className="flex w-12 shrink-0 flex-col gap-1 overflow-y-auto border-r border-base-300 bg-base-200 py-2 lg:w-48">
      <NavLink to="/" className="mb-1 flex items-center gap-2 px-3 -outline-offset-2 font-semibold tracking-tight max-lg:justify-center max-lg:px-0">
        <img src="/mark.svg" alt="" className="size-6" />
        <span className="max-lg:sr-only">Last Mile</span>
      </NavLink>
      <button
        type="button"
        className="mx-2 flex cursor-pointer items-center gap-2 rounded-field border border-base-300 bg-base-100 px-2 py-1 text-left text-base-content/75 hover:border-base-content/40 max-lg:mx-1.5 max-lg:justify-center"
        onClick={search}
        title="Find a machine, image, page or action"
        aria-keyshortcuts="Control+K"
      >
        <Search className="size-4 shrink-0" aria-hidden />
        <span className="flex-1 max-lg:sr-only">Find</span>
        <kbd className="kbd kbd-xs max-lg:hidden" aria-hidden>Ctrl K</kbd>
      </button>
      <nav aria-label="Pages" className="flex flex-1 flex-col gap-2 pt-1">
        {GROUPS.map((group) => (
          <div key={group.name} role="group" aria-label={group.name}>
            <div className="px-3 text-xs text-base-content/65 max-lg:hidden" aria-hidden>
              {group.name}
            </div>
            <ul className="max-lg:border-b max-lg:border-base-300 max-lg:pb-1">
              {group.pages.map((page) => (
                <li key={page.path}>
                  <PageLink page={page} />
                </li>
              ))}
            </ul>
          </div>
        ))}
      </nav>
      <PageLink page={SETTINGS} />
      <div className="flex items-center justify-between gap-1 px-3 pt-1 max-lg:flex-col max-lg:px-0">
        <ConnectionNote connection={connection} />
        <button
          type="button"
          className="btn btn-ghost btn-sm btn-square"
          onClick={toggle}
          aria-label={dark ? "Use light colours" : "Use dark colours"}
        >
          {dark ? <Sun className="size-4" /> : <Moon className="size-4" />}
        </button>
      </div>
    </header>
  );
}

function PageLink({ page }: { page: Page }) {
  const Icon = page.icon;
  const classes = ({ isActive }: { isActive: boolean }) =>
    `flex items-center gap-2.5 border-l-4 py-1 pr-2 pl-2 max-lg:justify-center max-lg:px-0 ${
      isActive ? "border-accent bg-base-300/60 font-semibold" : "border-transparent hover:bg-base-300/60"
    }`;
  return (
    <NavLink to={page.path} end={page.path === "/"} className={classes} title={page.name}>
      <Icon className="size-4 shrink-0" aria-hidden />
      <span className="max-lg:sr-only">{page.name}</span>
    </NavLink>
  );
}

const CONNECTIONS: Record<Connection, { mark: string; text: string }> = {
  connecting: { mark: "bg-base-300", text: "connecting" },
  live: { mark: "bg-success", text: "live" },
  lost: { mark: "under-way bg-error", text: "no connection, trying again" },
};

function ConnectionNote({ connection }: { connection: Connection }) {
  const { mark, text } = CONNECTIONS[connection];
  return (
    <span role="status" className="flex items-center gap-1.5 text-xs" title={text}>
      <span className={`size-2 rotate-45 ${mark}`} aria-hidden />
      <span className="max-lg:sr-only">{text}</span>
    </span>
  );
}
