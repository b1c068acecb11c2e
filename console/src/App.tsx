import { Moon, Sun } from "lucide-react";
import { lazy, Suspense } from "react";
import { NavLink, Route, Routes } from "react-router";

import { type Connection, useLive } from "./api/live";
import { AnswersPage } from "./answers/AnswersPage";
import { CheckPage } from "./check/CheckPage";
import { ExportsPage } from "./exports/ExportsPage";
import { HandoversPage } from "./handovers/HandoversPage";
import { ImagePage } from "./images/ImagePage";
import { ImagesPage } from "./images/ImagesPage";
import { ImportPage } from "./images/ImportPage";
import { ArmPage } from "./installs/ArmPage";
import { InstallPage } from "./installs/InstallPage";
import { InstallsPage } from "./installs/InstallsPage";
import { LoadersPage } from "./loaders/LoadersPage";
import { MachinePage } from "./machines/MachinePage";
import { MachinesPage } from "./machines/MachinesPage";
import { NamingPage } from "./machines/NamingPage";
import { MenusPage } from "./menus/MenusPage";
import { Empty, Loading } from "./parts/States";
import { useTheme } from "./parts/theme";
import { EditSubnetPage, NewSubnetPage } from "./subnets/EditSubnetPage";
import { SubnetPage } from "./subnets/SubnetPage";
import { SubnetsPage } from "./subnets/SubnetsPage";
import { NewcomersPage } from "./traces/NewcomersPage";
import { TracePage } from "./traces/TracePage";

/** Pages that few look at often and that weigh much are fetched when somebody looks: charts, and what is edited beside its outcome. */
const EditAnswersPage = lazy(async () => ({ default: (await import("./answers/EditAnswersPage")).EditAnswersPage }));
const EditMenuPage = lazy(async () => ({ default: (await import("./menus/EditMenuPage")).EditMenuPage }));
const HistoryPage = lazy(async () => ({ default: (await import("./history/HistoryPage")).HistoryPage }));

/** The frame around every page. */
export function App() {
  const connection = useLive();
  return (
    <div className="flex h-dvh flex-col bg-base-100 text-base-content">
      <a href="#content" className="btn btn-sm absolute -top-20 left-2 z-10 focus:top-2">
        To the content
      </a>
      <Header connection={connection} />
      <main id="content" className="flex min-h-0 flex-1 flex-col px-3 pt-3 sm:px-5">
        <Suspense fallback={<Loading />}>
          <Routes>
            <Route path="/" element={<MachinesPage />} />
            <Route path="/machines/:name" element={<MachinePage />} />
            <Route path="/naming" element={<NamingPage />} />
            <Route path="/arm" element={<ArmPage />} />
            <Route path="/history" element={<HistoryPage />} />
            <Route path="/handovers" element={<HandoversPage />} />
            <Route path="/exports" element={<ExportsPage />} />
            <Route path="/installs" element={<InstallsPage />} />
            <Route path="/installs/:number" element={<InstallPage />} />
            <Route path="/images" element={<ImagesPage />} />
            <Route path="/import" element={<ImportPage />} />
            <Route path="/images/:name" element={<ImagePage />} />
            <Route path="/answers" element={<AnswersPage />} />
            <Route path="/answers/:name" element={<EditAnswersPage />} />
            <Route path="/menus" element={<MenusPage />} />
            <Route path="/menus/:name" element={<EditMenuPage />} />
            <Route path="/loaders" element={<LoadersPage />} />
            <Route path="/subnets" element={<SubnetsPage />} />
            <Route path="/new-subnet" element={<NewSubnetPage />} />
            <Route path="/subnets/:name" element={<SubnetPage />} />
            <Route path="/subnets/:name/edit" element={<EditSubnetPage />} />
            <Route path="/newcomers" element={<NewcomersPage />} />
            <Route path="/traces/:who" element={<TracePage />} />
            <Route path="/check" element={<CheckPage />} />
            <Route path="*" element={<Empty title="There is no such page">The address may be mistyped.</Empty>} />
          </Routes>
        </Suspense>
      </main>
    </div>
  );
}

function Header({ connection }: { connection: Connection }) {
  const { dark, toggle } = useTheme();
  const link = ({ isActive }: { isActive: boolean }) =>
    `border-b-2 py-3 sm:px-1 ${isActive ? "border-accent font-semibold" : "border-transparent hover:border-base-300"}`;
  return (
    <header className="flex items-center gap-2 border-b sm:gap-5 border-base-300 bg-base-200 px-3 sm:px-5">
      <NavLink to="/" className="hidden items-center gap-2 font-semibold tracking-tight sm:flex">
        <img src="/mark.svg" alt="" className="size-6" />
        <span>Last Mile</span>
      </NavLink>
      <nav aria-label="Pages" className="flex gap-2 overflow-x-auto text-xs sm:gap-4 sm:text-sm">
        <NavLink to="/" end className={link}>
          Machines
        </NavLink>
        <NavLink to="/installs" className={link}>
          Installs
        </NavLink>
        <NavLink to="/images" className={link}>
          Images
        </NavLink>
        <NavLink to="/answers" className={link}>
          Answers
        </NavLink>
        <NavLink to="/menus" className={link}>
          Menus
        </NavLink>
        <NavLink to="/loaders" className={link}>
          Loaders
        </NavLink>
        <NavLink to="/subnets" className={link}>
          Subnets
        </NavLink>
        <NavLink to="/newcomers" className={link}>
          Newcomers
        </NavLink>
        <NavLink to="/history" className={link}>
          History
        </NavLink>
        <NavLink to="/check" className={link}>
          Check
        </NavLink>
      </nav>
      <div className="ml-auto flex items-center gap-3">
        <ConnectionNote connection={connection} />
        <button
          type="button"
          className="btn btn-ghost btn-sm btn-square"
          onClick={toggle}
          aria-label={dark ? "Use the day colours" : "Use the night colours"}
        >
          {dark ? <Sun className="size-4" /> : <Moon className="size-4" />}
        </button>
      </div>
    </header>
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
    <span role="status" className="flex items-center gap-1.5 text-xs">
      <span className={`size-2 rotate-45 ${mark}`} aria-hidden />
      <span className="sr-only sm:not-sr-only">{text}</span>
    </span>
  );
}
