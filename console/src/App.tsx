import { lazy, Suspense } from "react";
import { Route, Routes } from "react-router";

import { useLive } from "./api/live";
import { AnswersPage } from "./answers/AnswersPage";
import { CheckPage } from "./check/CheckPage";
import { ExportsPage } from "./exports/ExportsPage";
import { Navigation } from "./frame/Navigation";
import { Palette, usePalette } from "./frame/Palette";
import { WebhooksPage } from "./webhooks/WebhooksPage";
import { ImagePage } from "./images/ImagePage";
import { ImagesPage } from "./images/ImagesPage";
import { ImportPage } from "./images/ImportPage";
import { ArmPage } from "./installs/ArmPage";
import { InstallPage } from "./installs/InstallPage";
import { InstallsPage } from "./installs/InstallsPage";
import { LabelPage } from "./labels/LabelPage";
import { LabelsPage } from "./labels/LabelsPage";
import { LoadersPage } from "./loaders/LoadersPage";
import { ImportMachinesPage } from "./machines/ImportMachinesPage";
import { MachinePage } from "./machines/MachinePage";
import { MachinesPage } from "./machines/MachinesPage";
import { NewMachinePage } from "./machines/NewMachinePage";
import { NamingPage } from "./machines/NamingPage";
import { MenusPage } from "./menus/MenusPage";
import { Empty, Loading } from "./parts/States";
import { RacksPage } from "./racks/RacksPage";
import { RulesPage } from "./rules/RulesPage";
import { OverviewPage } from "./overview/OverviewPage";
import { SettingsPage } from "./settings/SettingsPage";
import { EditSubnetPage, NewSubnetPage } from "./subnets/EditSubnetPage";
import { SubnetPage } from "./subnets/SubnetPage";
import { SubnetsPage } from "./subnets/SubnetsPage";
import { FactsPage } from "./facts/FactsPage";
import { NewcomersPage } from "./traces/NewcomersPage";
import { TracePage } from "./traces/TracePage";

/** Pages that few look at often and that weigh much are fetched when somebody looks: charts, and what is edited beside its outcome. */
const EditAnswersPage = lazy(async () => ({ default: (await import("./answers/EditAnswersPage")).EditAnswersPage }));
const EditMenuPage = lazy(async () => ({ default: (await import("./menus/EditMenuPage")).EditMenuPage }));
const EditRulePage = lazy(async () => ({ default: (await import("./rules/EditRulePage")).EditRulePage }));
const JobPage = lazy(async () => ({ default: (await import("./jobs/JobPage")).JobPage }));
const JobsPage = lazy(async () => ({ default: (await import("./jobs/JobsPage")).JobsPage }));
const HistoryPage = lazy(async () => ({ default: (await import("./history/HistoryPage")).HistoryPage }));

/** The frame around every page. */
export function App() {
  const connection = useLive();
  const [finding, setFinding] = usePalette();
  return (
    <div className="flex h-dvh bg-base-100 text-base-content">
      <a href="#content" className="btn btn-sm absolute -top-20 left-2 z-10 focus:top-2">
        To the content
      </a>
      <Navigation
        connection={connection}
        search={() => {
          setFinding(true);
        }}
      />
      <main id="content" className="flex min-h-0 min-w-0 flex-1 flex-col px-3 pt-3 sm:px-5">
        <Suspense fallback={<Loading />}>
          <Routes>
            <Route path="/" element={<OverviewPage />} />
            <Route path="/machines" element={<MachinesPage />} />
            <Route path="/machines/:name" element={<MachinePage />} />
            <Route path="/new-machine" element={<NewMachinePage />} />
            <Route path="/import-machines" element={<ImportMachinesPage />} />
            <Route path="/naming" element={<NamingPage />} />
            <Route path="/arm" element={<ArmPage />} />
            <Route path="/history" element={<HistoryPage />} />
            <Route path="/webhooks" element={<WebhooksPage />} />
            <Route path="/exports" element={<ExportsPage />} />
            <Route path="/installs" element={<InstallsPage />} />
            <Route path="/installs/:number" element={<InstallPage />} />
            <Route path="/jobs" element={<JobsPage />} />
            <Route path="/jobs/:number" element={<JobPage />} />
            <Route path="/images" element={<ImagesPage />} />
            <Route path="/import" element={<ImportPage />} />
            <Route path="/images/:name" element={<ImagePage />} />
            <Route path="/answers" element={<AnswersPage />} />
            <Route path="/answers/:name" element={<EditAnswersPage />} />
            <Route path="/menus" element={<MenusPage />} />
            <Route path="/menus/:name" element={<EditMenuPage />} />
            <Route path="/labels" element={<LabelsPage />} />
            <Route path="/labels/:name" element={<LabelPage />} />
            <Route path="/rules" element={<RulesPage />} />
            <Route path="/rules/:name" element={<EditRulePage />} />
            <Route path="/racks" element={<RacksPage />} />
            <Route path="/loaders" element={<LoadersPage />} />
            <Route path="/subnets" element={<SubnetsPage />} />
            <Route path="/new-subnet" element={<NewSubnetPage />} />
            <Route path="/subnets/:name" element={<SubnetPage />} />
            <Route path="/subnets/:name/edit" element={<EditSubnetPage />} />
            <Route path="/newcomers" element={<NewcomersPage />} />
            <Route path="/facts/:who" element={<FactsPage />} />
            <Route path="/traces/:who" element={<TracePage />} />
            <Route path="/check" element={<CheckPage />} />
            <Route path="/settings" element={<SettingsPage />} />
            <Route
              path="*"
              element={
                <>
                  <h1 className="text-lg font-semibold">Page not found</h1>
                  <Empty title="There is no such page">The address may be mistyped.</Empty>
                </>
              }
            />
          </Routes>
        </Suspense>
      </main>
      {finding && (
        <Palette
          close={() => {
            setFinding(false);
          }}
        />
      )}
    </div>
  );
}
