//! One method a call of the API, of its operation's name. Written from crates/api/openapi.json by
//! crates/api/tests/client_calls.rs: do not change it by hand, run `make contract`.

use futures_util::Stream;
use lastmile_api::{
    AdoptRequest, Advice, AnswersCompareQuery, AnswersComparison, AnswersPreview, AnswersPreviewRequest,
    AnswersView, ArmJobs, ArmPreview, ArmRequest, ArmSeveral, AskedRequest, Changed, CheckReport,
    ContentView, CurrentRevision, DeliveriesListQuery, DeliveryView, Event, ExportsHostsQuery,
    ExportsInventoryQuery, ExportsMachinesQuery, ExportsZoneQuery, FactsCompareQuery, FactsComparison,
    FactsView, FoundLoader, HistoryHostsQuery, HistoryRatesQuery, HostHistory, ImageDetail, ImageRow,
    ImageTitle, ImportReport, Inspection, InstallDetail, InstallList, InstallNumbers, InstallRow,
    InstallsListQuery, Inventory, JobDetail, JobList, JobNumbers, JobRow, JobsListQuery, LabelComparison,
    LabelDraft, LabelView, LeaseView, LintReport, LoaderDraft, LoaderPackages, LoaderView, LocationView,
    LocationsImport, LocationsRemove, LocationsReport, MachineDetail, MachineDraft, MachineList, MachineRow,
    MachineRules, MachinesChange, MachinesImport, MachinesListQuery, MachinesRemove, MenuDraft, MenuPreview,
    MenuView, NamingDraft, NamingView, NewcomerView, Overview, PasswordInput, Picture, PreviewRequest,
    Proposal, ProposalView, ProposalsChosen, RackView, RateReport, RenameRequest, Renamed, ReservationDraft,
    ReservationView, RevisionDetail, RevisionDraft, RuleDraft, RuleRun, RuleTrial, RuleTrialRequest,
    RuleUseView, RuleView, RulesRun, Settings, SiteSettings, Status, SubnetDraft, SubnetView,
    SubnetsRemoveQuery, SurveyBuild, SurveyRow, Trace, TraceComparison, TraceLine, TracesCompareQuery,
    Upload, UploadRequest, WebhookDraft, WebhookView, Work,
};
use reqwest::Method;

use crate::{Client, ClientError, Edited, part};

/// Every call gives what the service answered, or the [`ClientError`] that says why not.
#[allow(clippy::missing_errors_doc, reason = "said once, above")]
impl Client {
    /// Looks at every pair of answers and image, with every machine.
    pub async fn answers_lint(&self) -> Result<LintReport, ClientError> {
        self.read(self.request(Method::GET, "/answer-lint")).await
    }

    /// All answers and other layers, at their current versions: answers first, then the site's, labels' and machines'.
    pub async fn answers_list(&self) -> Result<Vec<AnswersView>, ClientError> {
        self.read(self.request(Method::GET, "/answers")).await
    }

    /// Retires answers, or another layer. The versions that installs name stay on record.
    pub async fn answers_remove(&self, name: &str) -> Result<(), ClientError> {
        self.done(self.request(Method::DELETE, &format!("/answers/{name}", name = part(name)))).await
    }

    /// One set of answers, or another layer (`site:`, `label:NAME`, `machine:NAME`), at its current version.
    pub async fn answers_read(&self, name: &str) -> Result<Edited<AnswersView>, ClientError> {
        self.read_edited(self.request(Method::GET, &format!("/answers/{name}", name = part(name)))).await
    }

    /// Saves a new version of answers, or of another layer. Installs armed before keep the versions they were armed with.
    pub async fn answers_save(
        &self,
        name: &str,
        body: &Settings<PasswordInput>,
    ) -> Result<AnswersView, ClientError> {
        self.read(self.request(Method::PUT, &format!("/answers/{name}", name = part(name))).json(body)).await
    }

    /// Two versions of answers, or the files of two machines, held against each other.
    pub async fn answers_compare(
        &self,
        name: &str,
        query: &AnswersCompareQuery,
    ) -> Result<AnswersComparison, ClientError> {
        self.read(
            self.request(Method::GET, &format!("/answers/{name}/compare", name = part(name))).query(query),
        )
        .await
    }

    /// Adds answers like others, with their passwords, which are never read back.
    pub async fn answers_copy(&self, name: &str, body: &RenameRequest) -> Result<AnswersView, ClientError> {
        self.read(self.request(Method::POST, &format!("/answers/{name}/copy", name = part(name))).json(body))
            .await
    }

    /// The answer files as one machine would get them, saved or not. The token in them is made when an install is armed.
    pub async fn answers_preview(
        &self,
        name: &str,
        body: &AnswersPreviewRequest,
    ) -> Result<AnswersPreview, ClientError> {
        self.read(
            self.request(Method::POST, &format!("/answers/{name}/preview", name = part(name))).json(body),
        )
        .await
    }

    /// Gives answers another name, with all their versions. Machines and menus that use them follow.
    pub async fn answers_rename(&self, name: &str, body: &RenameRequest) -> Result<Renamed, ClientError> {
        self.read(
            self.request(Method::POST, &format!("/answers/{name}/rename", name = part(name))).json(body),
        )
        .await
    }

    /// Every version that answers, or another layer, ever had, newest first.
    pub async fn answers_versions(&self, name: &str) -> Result<Vec<AnswersView>, ClientError> {
        self.read(self.request(Method::GET, &format!("/answers/{name}/versions", name = part(name)))).await
    }

    /// Looks at everything that could stand in the way of a boot, asks for other DHCP servers, and boots a machine of the
    /// service's own. Takes a few seconds; nothing is recorded.
    pub async fn check_run(&self) -> Result<CheckReport, ClientError> {
        self.read(self.request(Method::POST, "/check")).await
    }

    /// Whether content is there already, so that it need not be sent.
    pub async fn content_find(&self, sha256: &str) -> Result<ContentView, ClientError> {
        self.read(self.request(Method::GET, &format!("/content/{sha256}", sha256 = part(sha256)))).await
    }

    /// Deliveries, latest first.
    pub async fn deliveries_list(
        &self,
        query: &DeliveriesListQuery,
    ) -> Result<Vec<DeliveryView>, ClientError> {
        self.read(self.request(Method::GET, "/deliveries").query(query)).await
    }

    /// Gives a delivery up: it is not tried again.
    pub async fn deliveries_abandon(&self, number: i32) -> Result<DeliveryView, ClientError> {
        self.read(self.request(Method::POST, &format!("/deliveries/{number}/abandon"))).await
    }

    /// Has a delivery made at once: one that waits, or, once more, one that was made or abandoned.
    pub async fn deliveries_send(&self, number: i32) -> Result<DeliveryView, ClientError> {
        self.read(self.request(Method::POST, &format!("/deliveries/{number}/send"))).await
    }

    /// Everything that changes, as it changes, as server-sent events whose data is an `Event`.
    pub async fn events_stream(&self) -> Result<impl Stream<Item = Event> + use<>, ClientError> {
        self.stream(self.request(Method::GET, "/events")).await
    }

    /// All machines as lines of a hosts file.
    pub async fn exports_hosts(&self, query: &ExportsHostsQuery) -> Result<String, ClientError> {
        self.text(self.request(Method::GET, "/exports/hosts").query(query)).await
    }

    /// All machines and what they hold.
    pub async fn exports_inventory(&self, query: &ExportsInventoryQuery) -> Result<Inventory, ClientError> {
        self.read(self.request(Method::GET, "/exports/inventory").query(query)).await
    }

    /// All machines as CSV, with the columns that an import reads.
    pub async fn exports_machines(&self, query: &ExportsMachinesQuery) -> Result<String, ClientError> {
        self.text(self.request(Method::GET, "/exports/machines").query(query)).await
    }

    /// A zone file (RFC 1035) of a domain, or of a network.
    pub async fn exports_zone(&self, query: &ExportsZoneQuery) -> Result<String, ClientError> {
        self.text(self.request(Method::GET, "/exports/zone").query(query)).await
    }

    /// What the latest survey measured of a machine (by its name) or of a newcomer (by its MAC address).
    pub async fn facts_read(&self, who: &str) -> Result<FactsView, ClientError> {
        self.read(self.request(Method::GET, &format!("/facts/{who}", who = part(who)))).await
    }

    /// How the hardware of two machines differs, by their latest surveys.
    pub async fn facts_compare(
        &self,
        who: &str,
        query: &FactsCompareQuery,
    ) -> Result<FactsComparison, ClientError> {
        self.read(
            self.request(Method::GET, &format!("/facts/{who}/comparison", who = part(who))).query(query),
        )
        .await
    }

    /// What rules say of a machine or a newcomer: those that hold, those that do not and why, what would change, and what they did.
    pub async fn facts_rules(&self, who: &str) -> Result<MachineRules, ClientError> {
        self.read(self.request(Method::GET, &format!("/facts/{who}/rules", who = part(who)))).await
    }

    /// Every survey of a machine or a newcomer, the latest first.
    pub async fn facts_surveys(&self, who: &str) -> Result<Vec<SurveyRow>, ClientError> {
        self.read(self.request(Method::GET, &format!("/facts/{who}/surveys", who = part(who)))).await
    }

    /// What one survey measured.
    pub async fn facts_survey(&self, who: &str, boot: &str) -> Result<FactsView, ClientError> {
        self.read(self.request(
            Method::GET,
            &format!("/facts/{who}/surveys/{boot}", who = part(who), boot = part(boot)),
        ))
        .await
    }

    /// Which host has which image revision, since when, and from whom; machines that left among them.
    pub async fn history_hosts(&self, query: &HistoryHostsQuery) -> Result<HostHistory, ClientError> {
        self.read(self.request(Method::GET, "/history/hosts").query(query)).await
    }

    /// Which host has which image revision, since when, and from whom; machines that left among them.
    pub async fn history_hosts_csv(&self, query: &HistoryHostsQuery) -> Result<String, ClientError> {
        self.text(self.request(Method::GET, "/history/hosts").query(query).query(&[("format", "csv")])).await
    }

    /// How installs went, by what they have in common and day by day.
    pub async fn history_rates(&self, query: &HistoryRatesQuery) -> Result<RateReport, ClientError> {
        self.read(self.request(Method::GET, "/history/rates").query(query)).await
    }

    /// How installs went, by what they have in common and day by day.
    pub async fn history_rates_csv(&self, query: &HistoryRatesQuery) -> Result<String, ClientError> {
        self.text(self.request(Method::GET, "/history/rates").query(query).query(&[("format", "csv")])).await
    }

    /// All images.
    pub async fn images_list(&self) -> Result<Vec<ImageRow>, ClientError> {
        self.read(self.request(Method::GET, "/images")).await
    }

    /// Imports a revision: of a new image, or the next of an existing one. What the draft leaves out is recognised.
    pub async fn images_create(&self, body: &RevisionDraft) -> Result<ImageDetail, ClientError> {
        self.read(self.request(Method::POST, "/images").json(body)).await
    }

    /// Looks into files that were uploaded before, or into an ISO on the service's host, and says what saving them as a
    /// revision would make. Nothing is saved; a tar archive is unpacked, and the draft then names its files.
    pub async fn images_inspect(&self, body: &RevisionDraft) -> Result<Inspection, ClientError> {
        self.read(self.request(Method::POST, "/images/inspect").json(body)).await
    }

    /// Removes an image and all its revisions, unless something needs it.
    pub async fn images_remove(&self, name: &str) -> Result<(), ClientError> {
        self.done(self.request(Method::DELETE, &format!("/images/{name}", name = part(name)))).await
    }

    /// One image, with its current revision whole.
    pub async fn images_read(&self, name: &str) -> Result<Edited<ImageDetail>, ClientError> {
        self.read_edited(self.request(Method::GET, &format!("/images/{name}", name = part(name)))).await
    }

    /// Makes a revision the current one: forward, or back to an earlier one.
    pub async fn images_set_current(
        &self,
        name: &str,
        body: &CurrentRevision,
    ) -> Result<ImageDetail, ClientError> {
        self.read(self.request(Method::PUT, &format!("/images/{name}/current", name = part(name))).json(body))
            .await
    }

    /// Gives an image another name, with all its revisions. Menus and answers that name it follow.
    pub async fn images_rename(&self, name: &str, body: &RenameRequest) -> Result<Renamed, ClientError> {
        self.read(self.request(Method::POST, &format!("/images/{name}/rename", name = part(name))).json(body))
            .await
    }

    /// Removes a revision, unless it is the current one or an install of it goes on.
    pub async fn revisions_remove(&self, name: &str, number: u32) -> Result<(), ClientError> {
        self.done(
            self.request(Method::DELETE, &format!("/images/{name}/revisions/{number}", name = part(name))),
        )
        .await
    }

    /// One revision, whole.
    pub async fn revisions_read(&self, name: &str, number: u32) -> Result<RevisionDetail, ClientError> {
        self.read(self.request(Method::GET, &format!("/images/{name}/revisions/{number}", name = part(name))))
            .await
    }

    /// Brings a retired revision back.
    pub async fn revisions_restore(&self, name: &str, number: u32) -> Result<RevisionDetail, ClientError> {
        self.read(
            self.request(
                Method::POST,
                &format!("/images/{name}/revisions/{number}/restore", name = part(name)),
            ),
        )
        .await
    }

    /// Takes a revision out of use: nobody can make it current. Installs on record keep it.
    pub async fn revisions_retire(&self, name: &str, number: u32) -> Result<RevisionDetail, ClientError> {
        self.read(
            self.request(
                Method::POST,
                &format!("/images/{name}/revisions/{number}/retire", name = part(name)),
            ),
        )
        .await
    }

    /// Reads every file of a revision again and holds it against its digest. Answers when that is done; `GET /work` tells how
    /// far it is.
    pub async fn revisions_verify(&self, name: &str, number: u32) -> Result<RevisionDetail, ClientError> {
        self.read(
            self.request(
                Method::POST,
                &format!("/images/{name}/revisions/{number}/verify", name = part(name)),
            ),
        )
        .await
    }

    /// Changes what the person at the machine reads of an image. It is no part of a revision.
    pub async fn images_set_title(&self, name: &str, body: &ImageTitle) -> Result<ImageDetail, ClientError> {
        self.read(self.request(Method::PUT, &format!("/images/{name}/title", name = part(name))).json(body))
            .await
    }

    /// Installs, newest first, filtered, and a page at a time.
    pub async fn installs_list(&self, query: &InstallsListQuery) -> Result<InstallList, ClientError> {
        self.read(self.request(Method::GET, "/installs").query(query)).await
    }

    /// Arms an install: the machine gets it at its next network boot, once.
    pub async fn installs_arm(&self, body: &ArmRequest) -> Result<InstallRow, ClientError> {
        self.read(self.request(Method::POST, "/installs").json(body)).await
    }

    /// Cancels several installs in one change. Those that have ended meanwhile stay as they are; the answer has all as they are then.
    pub async fn installs_cancel_several(
        &self,
        body: &InstallNumbers,
    ) -> Result<Vec<InstallRow>, ClientError> {
        self.read(self.request(Method::POST, "/installs/cancel").json(body)).await
    }

    /// What arming would do to each machine: what it holds now, what it would get, which disks it would lose, and what stands
    /// in the way. Nothing is changed.
    pub async fn installs_preview(&self, body: &ArmSeveral) -> Result<Vec<ArmPreview>, ClientError> {
        self.read(self.request(Method::POST, "/installs/preview").json(body)).await
    }

    /// Arms what several ended installs were to do once more: all of them, or none.
    pub async fn installs_retry_several(
        &self,
        body: &InstallNumbers,
    ) -> Result<Vec<InstallRow>, ClientError> {
        self.read(self.request(Method::POST, "/installs/retry").json(body)).await
    }

    /// Arms an install of the same image on several machines: on all of them, or on none.
    pub async fn installs_arm_several(&self, body: &ArmSeveral) -> Result<Vec<InstallRow>, ClientError> {
        self.read(self.request(Method::POST, "/installs/several").json(body)).await
    }

    /// One install, with everything that was seen of it.
    pub async fn installs_read(&self, number: i64) -> Result<InstallDetail, ClientError> {
        self.read(self.request(Method::GET, &format!("/installs/{number}"))).await
    }

    /// Answers questions that an install waits for. The machine goes on by itself.
    pub async fn installs_answer(&self, number: i64, body: &AskedRequest) -> Result<InstallRow, ClientError> {
        self.read(self.request(Method::POST, &format!("/installs/{number}/answer")).json(body)).await
    }

    /// Cancels an install. The machine gets its local disk at its next boot; what the installer has done
    /// already is not undone.
    pub async fn installs_cancel(&self, number: i64) -> Result<InstallRow, ClientError> {
        self.read(self.request(Method::POST, &format!("/installs/{number}/cancel"))).await
    }

    /// Arms what an ended install was to do once more: the image's current revision, with the same answers.
    pub async fn installs_retry(&self, number: i64) -> Result<InstallRow, ClientError> {
        self.read(self.request(Method::POST, &format!("/installs/{number}/retry"))).await
    }

    /// A subnet proposed from an interface, with the reason for each field. Nothing is saved.
    pub async fn subnets_suggest(&self, interface: &str) -> Result<Proposal, ClientError> {
        self.read(self.request(
            Method::GET,
            &format!("/interfaces/{interface}/suggestion", interface = part(interface)),
        ))
        .await
    }

    /// Jobs, newest first, filtered, and a page at a time.
    pub async fn jobs_list(&self, query: &JobsListQuery) -> Result<JobList, ClientError> {
        self.read(self.request(Method::GET, "/jobs").query(query)).await
    }

    /// Arms a job on several machines: on all of them, or on none. A machine that runs the survey begins at once; another one boots the
    /// survey at its next network boot.
    pub async fn jobs_arm(&self, body: &ArmJobs) -> Result<Vec<JobRow>, ClientError> {
        self.read(self.request(Method::POST, "/jobs").json(body)).await
    }

    /// Cancels jobs in one change. Those that have ended meanwhile stay as they are; the answer has all as they are then.
    pub async fn jobs_cancel(&self, body: &JobNumbers) -> Result<Vec<JobRow>, ClientError> {
        self.read(self.request(Method::POST, "/jobs/cancel").json(body)).await
    }

    /// One job, with everything that happened to it and what it wrote.
    pub async fn jobs_read(&self, number: i64) -> Result<JobDetail, ClientError> {
        self.read(self.request(Method::GET, &format!("/jobs/{number}"))).await
    }

    /// What a shell's screen showed so far, as a recording of a terminal (asciicast, version 2).
    pub async fn jobs_recording(&self, number: i64) -> Result<String, ClientError> {
        self.text(self.request(Method::GET, &format!("/jobs/{number}/recording"))).await
    }

    /// All labels: those of which anything is said, and those that machines have.
    pub async fn labels_list(&self) -> Result<Vec<LabelView>, ClientError> {
        self.read(self.request(Method::GET, "/labels")).await
    }

    /// Says nothing of a label any more. Machines keep it.
    pub async fn labels_remove(&self, name: &str) -> Result<(), ClientError> {
        self.done(self.request(Method::DELETE, &format!("/labels/{name}", name = part(name)))).await
    }

    /// What is said of one label, which may be nothing, and how many machines have it.
    pub async fn labels_read(&self, name: &str) -> Result<Edited<LabelView>, ClientError> {
        self.read_edited(self.request(Method::GET, &format!("/labels/{name}", name = part(name)))).await
    }

    /// Says what machines of a label have in common.
    pub async fn labels_save(&self, name: &str, body: &LabelDraft) -> Result<LabelView, ClientError> {
        self.read(self.request(Method::PUT, &format!("/labels/{name}", name = part(name))).json(body)).await
    }

    /// How alike the machines of a label are by their latest surveys: which are otherwise than most of them, and in what.
    pub async fn labels_facts(&self, name: &str) -> Result<LabelComparison, ClientError> {
        self.read(self.request(Method::GET, &format!("/labels/{name}/facts", name = part(name)))).await
    }

    /// Gives a label another name: on all machines that have it, with its parameters, its menu and its settings. Conditions that
    /// name it are told, and stay.
    pub async fn labels_rename(&self, name: &str, body: &RenameRequest) -> Result<Renamed, ClientError> {
        self.read(self.request(Method::POST, &format!("/labels/{name}/rename", name = part(name))).json(body))
            .await
    }

    /// All loaders.
    pub async fn loaders_list(&self) -> Result<Vec<LoaderView>, ClientError> {
        self.read(self.request(Method::GET, "/loaders")).await
    }

    /// Adds a loader whose files were uploaded before.
    pub async fn loaders_create(&self, body: &LoaderDraft) -> Result<LoaderView, ClientError> {
        self.read(self.request(Method::POST, "/loaders").json(body)).await
    }

    /// Loaders that the operating system's packages put on the service's host.
    pub async fn loaders_find(&self) -> Result<Vec<FoundLoader>, ClientError> {
        self.read(self.request(Method::GET, "/loaders/packaged")).await
    }

    /// Adds a loader that packages put on the service's host, under the name that it was found by.
    pub async fn loaders_add_packaged(&self, name: &str) -> Result<LoaderView, ClientError> {
        self.read(self.request(Method::POST, &format!("/loaders/packaged/{name}", name = part(name)))).await
    }

    /// Removes a loader. Firmware of its kind gets an address and nothing to boot until another is added.
    pub async fn loaders_remove(&self, name: &str) -> Result<(), ClientError> {
        self.done(self.request(Method::DELETE, &format!("/loaders/{name}", name = part(name)))).await
    }

    /// One loader.
    pub async fn loaders_read(&self, name: &str) -> Result<Edited<LoaderView>, ClientError> {
        self.read_edited(self.request(Method::GET, &format!("/loaders/{name}", name = part(name)))).await
    }

    /// Changes a loader: the whole of it is replaced. Files that it has need not be uploaded again.
    pub async fn loaders_replace(&self, name: &str, body: &LoaderDraft) -> Result<LoaderView, ClientError> {
        self.read(self.request(Method::PUT, &format!("/loaders/{name}", name = part(name))).json(body)).await
    }

    /// Where every known port of a switch is, and who is plugged into it.
    pub async fn locations_list(&self) -> Result<Vec<LocationView>, ClientError> {
        self.read(self.request(Method::GET, "/locations")).await
    }

    /// Takes a table of locations by CSV: all rows, or, if anything is wrong with one, none.
    pub async fn locations_import(&self, body: &LocationsImport) -> Result<LocationsReport, ClientError> {
        self.read(self.request(Method::POST, "/locations/import").json(body)).await
    }

    /// Removes the locations of a switch, or of some of its ports.
    pub async fn locations_remove(&self, body: &LocationsRemove) -> Result<LocationsReport, ClientError> {
        self.read(self.request(Method::POST, "/locations/remove").json(body)).await
    }

    /// Machines, filtered, ordered, and a page at a time.
    pub async fn machines_list(&self, query: &MachinesListQuery) -> Result<MachineList, ClientError> {
        self.read(self.request(Method::GET, "/machines").query(query)).await
    }

    /// Registers a machine.
    pub async fn machines_create(&self, body: &MachineDraft) -> Result<MachineRow, ClientError> {
        self.read(self.request(Method::POST, "/machines").json(body)).await
    }

    /// Registers newcomers: all of them, or, if anything stands in the way of one, none.
    pub async fn machines_adopt(&self, body: &AdoptRequest) -> Result<Vec<MachineRow>, ClientError> {
        self.read(self.request(Method::POST, "/machines/adopt").json(body)).await
    }

    /// Changes values of several machines: of all of them, or of none.
    pub async fn machines_change(&self, body: &MachinesChange) -> Result<Vec<Changed>, ClientError> {
        self.read(self.request(Method::POST, "/machines/change").json(body)).await
    }

    /// Registers and changes machines by CSV: all rows, or, if anything is wrong with one, none.
    pub async fn machines_import(&self, body: &MachinesImport) -> Result<ImportReport, ClientError> {
        self.read(self.request(Method::POST, "/machines/import").json(body)).await
    }

    /// Removes several machines: all of them, or none. Their installs stay on record.
    pub async fn machines_remove_several(
        &self,
        body: &MachinesRemove,
    ) -> Result<MachinesRemove, ClientError> {
        self.read(self.request(Method::POST, "/machines/remove").json(body)).await
    }

    /// Removes a machine. Its installs stay on record.
    pub async fn machines_remove(&self, name: &str) -> Result<(), ClientError> {
        self.done(self.request(Method::DELETE, &format!("/machines/{name}", name = part(name)))).await
    }

    /// One machine: what the list shows, its boot plan, and its trace.
    pub async fn machines_read(&self, name: &str) -> Result<Edited<MachineDetail>, ClientError> {
        self.read_edited(self.request(Method::GET, &format!("/machines/{name}", name = part(name)))).await
    }

    /// Changes a machine: the whole of it is replaced. Its installs stay with it.
    pub async fn machines_replace(&self, name: &str, body: &MachineDraft) -> Result<MachineRow, ClientError> {
        self.read(self.request(Method::PUT, &format!("/machines/{name}", name = part(name))).json(body)).await
    }

    /// All menus.
    pub async fn menus_list(&self) -> Result<Vec<MenuView>, ClientError> {
        self.read(self.request(Method::GET, "/menus")).await
    }

    /// Removes a menu, unless somebody is shown it.
    pub async fn menus_remove(&self, name: &str) -> Result<(), ClientError> {
        self.done(self.request(Method::DELETE, &format!("/menus/{name}", name = part(name)))).await
    }

    /// One menu. Phrases are never read back.
    pub async fn menus_read(&self, name: &str) -> Result<Edited<MenuView>, ClientError> {
        self.read_edited(self.request(Method::GET, &format!("/menus/{name}", name = part(name)))).await
    }

    /// Saves a menu: a new one, or in the place of the one of that name.
    pub async fn menus_save(&self, name: &str, body: &MenuDraft) -> Result<MenuView, ClientError> {
        self.read(self.request(Method::PUT, &format!("/menus/{name}", name = part(name))).json(body)).await
    }

    /// Adds a menu like another, with its phrases, which are never read back.
    pub async fn menus_copy(&self, name: &str, body: &RenameRequest) -> Result<MenuView, ClientError> {
        self.read(self.request(Method::POST, &format!("/menus/{name}/copy", name = part(name))).json(body))
            .await
    }

    /// What a machine would see of a menu, saved or not: the screens, and the text that its loader gets.
    pub async fn menus_preview(&self, name: &str, body: &PreviewRequest) -> Result<MenuPreview, ClientError> {
        self.read(self.request(Method::POST, &format!("/menus/{name}/preview", name = part(name))).json(body))
            .await
    }

    /// Gives a menu another name. Everything that shows it shows it by that name.
    pub async fn menus_rename(&self, name: &str, body: &RenameRequest) -> Result<Renamed, ClientError> {
        self.read(self.request(Method::POST, &format!("/menus/{name}/rename", name = part(name))).json(body))
            .await
    }

    /// Gives machines names and addresses by pattern: all that are meant, or, if anything stands in the way of one of them,
    /// none.
    pub async fn naming_apply(&self, body: &NamingDraft) -> Result<NamingView, ClientError> {
        self.read(self.request(Method::POST, "/naming").json(body)).await
    }

    /// What names and addresses by pattern would be: of every machine that is meant, with what stands in the way. Nothing is
    /// changed.
    pub async fn naming_preview(&self, body: &NamingDraft) -> Result<NamingView, ClientError> {
        self.read(self.request(Method::POST, "/naming/preview").json(body)).await
    }

    /// Newcomers that left a trace, the one seen last first.
    pub async fn traces_newcomers(&self) -> Result<Vec<NewcomerView>, ClientError> {
        self.read(self.request(Method::GET, "/newcomers")).await
    }

    /// What needs attention, what is in progress, what happened today, and the state of the service.
    pub async fn overview_read(&self) -> Result<Overview, ClientError> {
        self.read(self.request(Method::GET, "/overview")).await
    }

    /// Loaders in package files that were uploaded before: for a host that has not installed them, or is of another architecture.
    pub async fn loaders_find_in_packages(
        &self,
        body: &LoaderPackages,
    ) -> Result<Vec<FoundLoader>, ClientError> {
        self.read(self.request(Method::POST, "/packages/loaders").json(body)).await
    }

    /// Adds a loader of package files that were uploaded before, under the name that it was found by.
    pub async fn loaders_add_from_packages(
        &self,
        name: &str,
        body: &LoaderPackages,
    ) -> Result<LoaderView, ClientError> {
        self.read(
            self.request(Method::POST, &format!("/packages/loaders/{name}", name = part(name))).json(body),
        )
        .await
    }

    /// What rules propose, the longest waiting first.
    pub async fn proposals_list(&self) -> Result<Vec<ProposalView>, ClientError> {
        self.read(self.request(Method::GET, "/proposals")).await
    }

    /// Accepts what rules propose: all that nothing stands in the way of is done. Each machine is a change of its own.
    pub async fn proposals_accept(&self, body: &ProposalsChosen) -> Result<Vec<RuleRun>, ClientError> {
        self.read(self.request(Method::POST, "/proposals/accept").json(body)).await
    }

    /// Declines what rules propose. The same is not proposed again; something else is.
    pub async fn proposals_decline(&self, body: &ProposalsChosen) -> Result<ProposalsChosen, ClientError> {
        self.read(self.request(Method::POST, "/proposals/decline").json(body)).await
    }

    /// What stands in each rack: by the details `hall`, `row`, `rack` and `unit` of machines, and by the ports that newcomers are plugged
    /// into.
    pub async fn racks_list(&self) -> Result<Vec<RackView>, ClientError> {
        self.read(self.request(Method::GET, "/racks")).await
    }

    /// All rules, ordered by name.
    pub async fn rules_list(&self) -> Result<Vec<RuleView>, ClientError> {
        self.read(self.request(Method::GET, "/rules")).await
    }

    /// Runs all rules for some machines and newcomers, by what their last surveys measured. What rules of mode `apply` say is done, what
    /// others say is proposed. Each machine is a change of its own.
    pub async fn rules_run(&self, body: &RulesRun) -> Result<Vec<RuleRun>, ClientError> {
        self.read(self.request(Method::POST, "/rules/run").json(body)).await
    }

    /// What a rule would do to every machine and newcomer that was surveyed, if it were saved so. Nothing is changed.
    pub async fn rules_try(&self, body: &RuleTrialRequest) -> Result<RuleTrial, ClientError> {
        self.read(self.request(Method::POST, "/rules/try").json(body)).await
    }

    /// Removes a rule. What it gave machines stays.
    pub async fn rules_remove(&self, name: &str) -> Result<(), ClientError> {
        self.done(self.request(Method::DELETE, &format!("/rules/{name}", name = part(name)))).await
    }

    /// One rule.
    pub async fn rules_read(&self, name: &str) -> Result<Edited<RuleView>, ClientError> {
        self.read_edited(self.request(Method::GET, &format!("/rules/{name}", name = part(name)))).await
    }

    /// Adds a rule, or changes the one of its name. Nothing is done by that: rules run after surveys, and where they are run.
    pub async fn rules_save(&self, name: &str, body: &RuleDraft) -> Result<RuleView, ClientError> {
        self.read(self.request(Method::PUT, &format!("/rules/{name}", name = part(name))).json(body)).await
    }

    /// Gives a rule another name. What it did follows.
    pub async fn rules_rename(&self, name: &str, body: &RenameRequest) -> Result<Renamed, ClientError> {
        self.read(self.request(Method::POST, &format!("/rules/{name}/rename", name = part(name))).json(body))
            .await
    }

    /// When a rule changed machines, the latest first.
    pub async fn rules_uses(&self, name: &str) -> Result<Vec<RuleUseView>, ClientError> {
        self.read(self.request(Method::GET, &format!("/rules/{name}/uses", name = part(name)))).await
    }

    /// What holds for the whole site.
    pub async fn settings_read(&self) -> Result<Edited<SiteSettings>, ClientError> {
        self.read_edited(self.request(Method::GET, "/settings")).await
    }

    /// Changes what holds for the whole site.
    pub async fn settings_save(&self, body: &SiteSettings) -> Result<SiteSettings, ClientError> {
        self.read(self.request(Method::PUT, "/settings").json(body)).await
    }

    /// The state of the service.
    pub async fn status_read(&self) -> Result<Status, ClientError> {
        self.read(self.request(Method::GET, "/status")).await
    }

    /// All subnets.
    pub async fn subnets_list(&self) -> Result<Vec<SubnetView>, ClientError> {
        self.read(self.request(Method::GET, "/subnets")).await
    }

    /// Adds a subnet.
    pub async fn subnets_create(&self, body: &SubnetDraft) -> Result<SubnetView, ClientError> {
        self.read(self.request(Method::POST, "/subnets").json(body)).await
    }

    /// Removes a subnet, unless addresses of it are reserved. Machines on it are no longer answered; running leases are honoured by nobody.
    pub async fn subnets_remove(&self, name: &str, query: &SubnetsRemoveQuery) -> Result<(), ClientError> {
        self.done(self.request(Method::DELETE, &format!("/subnets/{name}", name = part(name))).query(query))
            .await
    }

    /// One subnet.
    pub async fn subnets_read(&self, name: &str) -> Result<Edited<SubnetView>, ClientError> {
        self.read_edited(self.request(Method::GET, &format!("/subnets/{name}", name = part(name)))).await
    }

    /// Changes a subnet: the whole of it is replaced. Leases stay.
    pub async fn subnets_replace(&self, name: &str, body: &SubnetDraft) -> Result<SubnetView, ClientError> {
        self.read(self.request(Method::PUT, &format!("/subnets/{name}", name = part(name))).json(body)).await
    }

    /// The exact values for a DHCP server that somebody else owns, for each kind of client, and the firewall's ports.
    pub async fn subnets_advice(&self, name: &str) -> Result<Advice, ClientError> {
        self.read(self.request(Method::GET, &format!("/subnets/{name}/advice", name = part(name)))).await
    }

    /// The leases of a subnet, in order of address: who holds or held what, until when.
    pub async fn subnets_leases(&self, name: &str) -> Result<Vec<LeaseView>, ClientError> {
        self.read(self.request(Method::GET, &format!("/subnets/{name}/leases", name = part(name)))).await
    }

    /// Forgets who holds an address of a subnet, so that it may be lent again: one that was left alone because somebody
    /// answered there, or one whose machine is gone.
    pub async fn subnets_free(&self, name: &str, address: &str) -> Result<(), ClientError> {
        self.done(self.request(
            Method::DELETE,
            &format!("/subnets/{name}/leases/{address}", name = part(name), address = part(address)),
        ))
        .await
    }

    /// What every address of a subnet is, in runs, and how many there are of each kind.
    pub async fn subnets_picture(&self, name: &str) -> Result<Picture, ClientError> {
        self.read(self.request(Method::GET, &format!("/subnets/{name}/picture", name = part(name)))).await
    }

    /// The reservations of a subnet, in order of address.
    pub async fn subnets_reservations(&self, name: &str) -> Result<Vec<ReservationView>, ClientError> {
        self.read(self.request(Method::GET, &format!("/subnets/{name}/reservations", name = part(name))))
            .await
    }

    /// Reserves an address for one client, in the place of the one it had.
    pub async fn subnets_reserve(
        &self,
        name: &str,
        body: &ReservationDraft,
    ) -> Result<ReservationView, ClientError> {
        self.read(
            self.request(Method::POST, &format!("/subnets/{name}/reservations", name = part(name)))
                .json(body),
        )
        .await
    }

    /// Ends a reservation. Who holds the address keeps it until the lease ends.
    pub async fn subnets_unreserve(&self, name: &str, address: &str) -> Result<(), ClientError> {
        self.done(self.request(
            Method::DELETE,
            &format!("/subnets/{name}/reservations/{address}", name = part(name), address = part(address)),
        ))
        .await
    }

    /// Makes the system that machines are surveyed by, and imports it as an image's next revision. It takes half a minute, and is
    /// finished also if nobody waits for it.
    pub async fn survey_build(&self, body: &SurveyBuild) -> Result<ImageDetail, ClientError> {
        self.read(self.request(Method::POST, "/survey/system").json(body)).await
    }

    /// The trace of a machine (by its name) or of a newcomer (by its MAC address): everything it did on the wire since
    /// the service started, within bounds, and what it means.
    pub async fn traces_read(&self, who: &str) -> Result<Trace, ClientError> {
        self.read(self.request(Method::GET, &format!("/traces/{who}", who = part(who)))).await
    }

    /// The exchange of one machine as a capture file (draft-ietf-opsawg-pcapng).
    pub async fn traces_capture(&self, who: &str) -> Result<Vec<u8>, ClientError> {
        self.bytes(self.request(Method::GET, &format!("/traces/{who}/capture", who = part(who)))).await
    }

    /// The last boots of two machines beside each other, the first difference marked.
    pub async fn traces_compare(
        &self,
        who: &str,
        query: &TracesCompareQuery,
    ) -> Result<TraceComparison, ClientError> {
        self.read(
            self.request(Method::GET, &format!("/traces/{who}/comparison", who = part(who))).query(query),
        )
        .await
    }

    /// The events of one machine as they come, as server-sent events whose data is a `TraceLine`. A comment says when
    /// some were lost because the reader was too slow.
    pub async fn traces_follow(
        &self,
        who: &str,
    ) -> Result<impl Stream<Item = TraceLine> + use<>, ClientError> {
        self.stream(self.request(Method::GET, &format!("/traces/{who}/events", who = part(who)))).await
    }

    /// Begins an upload in pieces, or finds the one of the same file that broke off.
    pub async fn uploads_begin(&self, body: &UploadRequest) -> Result<Upload, ClientError> {
        self.read(self.request(Method::POST, "/uploads").json(body)).await
    }

    /// Calls an upload off.
    pub async fn uploads_remove(&self, id: &str) -> Result<(), ClientError> {
        self.done(self.request(Method::DELETE, &format!("/uploads/{id}", id = part(id)))).await
    }

    /// How far an upload is.
    pub async fn uploads_read(&self, id: &str) -> Result<Upload, ClientError> {
        self.read(self.request(Method::GET, &format!("/uploads/{id}", id = part(id)))).await
    }

    /// Where ends of installs are told, ordered by name.
    pub async fn webhooks_list(&self) -> Result<Vec<WebhookView>, ClientError> {
        self.read(self.request(Method::GET, "/webhooks")).await
    }

    /// Removes a webhook. What was to be told by it is abandoned.
    pub async fn webhooks_remove(&self, name: &str) -> Result<(), ClientError> {
        self.done(self.request(Method::DELETE, &format!("/webhooks/{name}", name = part(name)))).await
    }

    /// One webhook. Its key is never read back.
    pub async fn webhooks_read(&self, name: &str) -> Result<Edited<WebhookView>, ClientError> {
        self.read_edited(self.request(Method::GET, &format!("/webhooks/{name}", name = part(name)))).await
    }

    /// Adds a webhook, or changes the one of its name. A key that is made here is in the answer to this request, and never
    /// shown again.
    pub async fn webhooks_save(&self, name: &str, body: &WebhookDraft) -> Result<WebhookView, ClientError> {
        self.read(self.request(Method::PUT, &format!("/webhooks/{name}", name = part(name))).json(body)).await
    }

    /// Gives a webhook another name, which receivers know its key by. Its deliveries follow.
    pub async fn webhooks_rename(&self, name: &str, body: &RenameRequest) -> Result<Renamed, ClientError> {
        self.read(
            self.request(Method::POST, &format!("/webhooks/{name}/rename", name = part(name))).json(body),
        )
        .await
    }

    /// Sends a delivery that tells of nothing, to try whether deliveries arrive.
    pub async fn webhooks_try(&self, name: &str) -> Result<(), ClientError> {
        self.done(self.request(Method::POST, &format!("/webhooks/{name}/trial", name = part(name)))).await
    }

    /// What the service does that takes longer than a moment, and what of that ended lately.
    pub async fn work_list(&self) -> Result<Vec<Work>, ClientError> {
        self.read(self.request(Method::GET, "/work")).await
    }
}
