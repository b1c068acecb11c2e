//! One method a call of the API.

use eventsource_stream::Eventsource;
use futures_util::{Stream, StreamExt};
use lastmile_api::{
    Advice, AnswersCompareQuery, AnswersComparison, AnswersPreview, AnswersPreviewRequest, AnswersView,
    ArmRequest, ArmSeveral, AskedRequest, CheckReport, CurrentRevision, DeliveryQuery, DeliveryView, Event,
    ExportQuery, Format, FoundLoader, HandoverDraft, HandoverView, HostHistory, HostsQuery, ImageDetail,
    ImageRow, ImageTitle, Inspection, InstallDetail, InstallList, InstallNumbers, InstallQuery, InstallRow,
    Inventory, LabelDraft, LabelView, LeaseView, LintReport, LoaderDraft, LoaderView, MachineDetail,
    MachineDraft, MachineList, MachineQuery, MachineRow, MenuDraft, MenuPreview, MenuView, NamingDraft,
    NamingView, NewcomerView, Outlook, PasswordInput, Picture, PreviewRequest, Proposal, RateReport,
    RatesQuery, ReservationDraft, ReservationView, RevisionDetail, RevisionDraft, Settings, SiteSettings,
    Status, SubnetDraft, SubnetView, Trace, TraceComparison, TraceLine, Work, ZoneQuery,
};
use reqwest::Method;

use crate::{Client, ClientError, part};

/// Every call gives what the service answered, or the [`ClientError`] that says why not.
#[allow(clippy::missing_errors_doc, reason = "said once, above")]
impl Client {
    /// How the service stands.
    pub async fn status(&self) -> Result<Status, ClientError> {
        self.get("/status").await
    }

    /// All subnets.
    pub async fn subnets(&self) -> Result<Vec<SubnetView>, ClientError> {
        self.get("/subnets").await
    }

    /// One subnet.
    pub async fn subnet(&self, name: &str) -> Result<SubnetView, ClientError> {
        self.get(&format!("/subnets/{}", part(name))).await
    }

    /// Adds a subnet.
    pub async fn create_subnet(&self, draft: &SubnetDraft) -> Result<SubnetView, ClientError> {
        self.put_or_post(Method::POST, "/subnets", draft).await
    }

    /// Replaces a subnet.
    pub async fn replace_subnet(&self, name: &str, draft: &SubnetDraft) -> Result<SubnetView, ClientError> {
        self.put_or_post(Method::PUT, &format!("/subnets/{}", part(name)), draft).await
    }

    /// Removes a subnet.
    pub async fn remove_subnet(&self, name: &str) -> Result<(), ClientError> {
        self.delete(&format!("/subnets/{}", part(name))).await
    }

    /// The leases of a subnet.
    pub async fn leases(&self, subnet: &str) -> Result<Vec<LeaseView>, ClientError> {
        self.get(&format!("/subnets/{}/leases", part(subnet))).await
    }

    /// Forgets who holds an address of a subnet.
    pub async fn free_address(&self, subnet: &str, address: &str) -> Result<(), ClientError> {
        self.delete(&format!("/subnets/{}/leases/{}", part(subnet), part(address))).await
    }

    /// What every address of a subnet is.
    pub async fn picture(&self, subnet: &str) -> Result<Picture, ClientError> {
        self.get(&format!("/subnets/{}/picture", part(subnet))).await
    }

    /// What to enter in somebody else's DHCP server and in the firewall.
    pub async fn advice(&self, subnet: &str) -> Result<Advice, ClientError> {
        self.get(&format!("/subnets/{}/advice", part(subnet))).await
    }

    /// A subnet proposed from an interface of the service's host.
    pub async fn suggest_subnet(&self, interface: &str) -> Result<Proposal, ClientError> {
        self.get(&format!("/interfaces/{}/suggestion", part(interface))).await
    }

    /// The reservations of a subnet.
    pub async fn reservations(&self, subnet: &str) -> Result<Vec<ReservationView>, ClientError> {
        self.get(&format!("/subnets/{}/reservations", part(subnet))).await
    }

    /// Reserves an address.
    pub async fn reserve(
        &self,
        subnet: &str,
        draft: &ReservationDraft,
    ) -> Result<ReservationView, ClientError> {
        self.put_or_post(Method::POST, &format!("/subnets/{}/reservations", part(subnet)), draft).await
    }

    /// Ends a reservation.
    pub async fn unreserve(&self, subnet: &str, address: &str) -> Result<(), ClientError> {
        self.delete(&format!("/subnets/{}/reservations/{}", part(subnet), part(address))).await
    }

    /// Newcomers that left a trace.
    pub async fn newcomers(&self) -> Result<Vec<NewcomerView>, ClientError> {
        self.get("/newcomers").await
    }

    /// The trace of a machine or newcomer.
    pub async fn trace(&self, who: &str) -> Result<Trace, ClientError> {
        self.get(&format!("/traces/{}", part(who))).await
    }

    /// The last boots of two machines beside each other.
    pub async fn compare_traces(&self, who: &str, with: &str) -> Result<TraceComparison, ClientError> {
        let path = format!("/traces/{}/comparison", part(who));
        self.read(self.request(Method::GET, &path).query(&[("with", with)])).await
    }

    /// The exchange of one machine as a capture file.
    pub async fn capture(&self, who: &str) -> Result<Vec<u8>, ClientError> {
        let response =
            self.send(self.request(Method::GET, &format!("/traces/{}/capture", part(who)))).await?;
        let unreachable = |source| ClientError::Unreachable { server: self.server.clone(), source };
        Ok(response.bytes().await.map_err(unreachable)?.to_vec())
    }

    /// The events of one machine as they come. The stream ends with the connection.
    pub async fn follow_trace(
        &self,
        who: &str,
    ) -> Result<impl Stream<Item = TraceLine> + use<>, ClientError> {
        let response = self.send(self.request(Method::GET, &format!("/traces/{}/events", part(who)))).await?;
        let events = response.bytes_stream().eventsource();
        Ok(events.filter_map(async |event| serde_json::from_str(&event.ok()?.data).ok()))
    }

    /// Looks at everything that could stand in the way of a boot.
    pub async fn check(&self) -> Result<CheckReport, ClientError> {
        self.put_or_post(Method::POST, "/check", &()).await
    }

    /// All loaders.
    pub async fn loaders(&self) -> Result<Vec<LoaderView>, ClientError> {
        self.get("/loaders").await
    }

    /// One loader.
    pub async fn loader(&self, name: &str) -> Result<LoaderView, ClientError> {
        self.get(&format!("/loaders/{}", part(name))).await
    }

    /// Adds a loader whose files were uploaded.
    pub async fn create_loader(&self, draft: &LoaderDraft) -> Result<LoaderView, ClientError> {
        self.put_or_post(Method::POST, "/loaders", draft).await
    }

    /// Removes a loader.
    pub async fn remove_loader(&self, name: &str) -> Result<(), ClientError> {
        self.delete(&format!("/loaders/{}", part(name))).await
    }

    /// Loaders that packages put on the service's host.
    pub async fn packaged_loaders(&self) -> Result<Vec<FoundLoader>, ClientError> {
        self.get("/loaders/packaged").await
    }

    /// Adds a loader that packages put on the service's host.
    pub async fn add_packaged_loader(&self, name: &str) -> Result<LoaderView, ClientError> {
        self.put_or_post(Method::POST, &format!("/loaders/packaged/{}", part(name)), &()).await
    }

    /// All images.
    pub async fn images(&self) -> Result<Vec<ImageRow>, ClientError> {
        self.get("/images").await
    }

    /// One image.
    pub async fn image(&self, name: &str) -> Result<ImageDetail, ClientError> {
        self.get(&format!("/images/{}", part(name))).await
    }

    /// Says what files are and what saving them would make.
    pub async fn inspect(&self, draft: &RevisionDraft) -> Result<Inspection, ClientError> {
        self.put_or_post(Method::POST, "/images/inspect", draft).await
    }

    /// One revision of an image.
    pub async fn revision(&self, image: &str, number: u32) -> Result<RevisionDetail, ClientError> {
        self.get(&format!("/images/{}/revisions/{number}", part(image))).await
    }

    /// Makes a revision the current one.
    pub async fn set_current(&self, image: &str, number: u32) -> Result<ImageDetail, ClientError> {
        let path = format!("/images/{}/current", part(image));
        self.put_or_post(Method::PUT, &path, &CurrentRevision { number }).await
    }

    /// Changes what the person at the machine reads of an image.
    pub async fn set_title(&self, image: &str, title: &str) -> Result<ImageDetail, ClientError> {
        let path = format!("/images/{}/title", part(image));
        self.put_or_post(Method::PUT, &path, &ImageTitle { title: title.into() }).await
    }

    /// Takes a revision out of use.
    pub async fn retire(&self, image: &str, number: u32) -> Result<RevisionDetail, ClientError> {
        let path = format!("/images/{}/revisions/{number}/retire", part(image));
        self.put_or_post(Method::POST, &path, &()).await
    }

    /// Brings a retired revision back.
    pub async fn restore(&self, image: &str, number: u32) -> Result<RevisionDetail, ClientError> {
        let path = format!("/images/{}/revisions/{number}/restore", part(image));
        self.put_or_post(Method::POST, &path, &()).await
    }

    /// Removes a revision.
    pub async fn remove_revision(&self, image: &str, number: u32) -> Result<(), ClientError> {
        self.delete(&format!("/images/{}/revisions/{number}", part(image))).await
    }

    /// Has every file of a revision read again.
    pub async fn verify(&self, image: &str, number: u32) -> Result<RevisionDetail, ClientError> {
        let path = format!("/images/{}/revisions/{number}/verify", part(image));
        self.put_or_post(Method::POST, &path, &()).await
    }

    /// What the service does that takes longer than a moment.
    pub async fn work(&self) -> Result<Vec<Work>, ClientError> {
        self.get("/work").await
    }

    /// All menus.
    pub async fn menus(&self) -> Result<Vec<MenuView>, ClientError> {
        self.get("/menus").await
    }

    /// One menu.
    pub async fn menu(&self, name: &str) -> Result<MenuView, ClientError> {
        self.get(&format!("/menus/{}", part(name))).await
    }

    /// Saves a menu.
    pub async fn save_menu(&self, name: &str, draft: &MenuDraft) -> Result<MenuView, ClientError> {
        self.put_or_post(Method::PUT, &format!("/menus/{}", part(name)), draft).await
    }

    /// Removes a menu.
    pub async fn remove_menu(&self, name: &str) -> Result<(), ClientError> {
        self.delete(&format!("/menus/{}", part(name))).await
    }

    /// What a machine would see of a menu.
    pub async fn preview_menu(
        &self,
        name: &str,
        request: &PreviewRequest,
    ) -> Result<MenuPreview, ClientError> {
        self.put_or_post(Method::POST, &format!("/menus/{}/preview", part(name)), request).await
    }

    /// All labels.
    pub async fn labels(&self) -> Result<Vec<LabelView>, ClientError> {
        self.get("/labels").await
    }

    /// Says what machines of a label have in common.
    pub async fn save_label(&self, name: &str, draft: &LabelDraft) -> Result<LabelView, ClientError> {
        self.put_or_post(Method::PUT, &format!("/labels/{}", part(name)), draft).await
    }

    /// Says nothing of a label any more.
    pub async fn remove_label(&self, name: &str) -> Result<(), ClientError> {
        self.delete(&format!("/labels/{}", part(name))).await
    }

    /// What holds for the whole site.
    pub async fn settings(&self) -> Result<SiteSettings, ClientError> {
        self.get("/settings").await
    }

    /// Changes what holds for the whole site.
    pub async fn save_settings(&self, settings: &SiteSettings) -> Result<SiteSettings, ClientError> {
        self.put_or_post(Method::PUT, "/settings", settings).await
    }

    /// Adds a revision whose files were uploaded.
    pub async fn create_revision(&self, draft: &RevisionDraft) -> Result<ImageDetail, ClientError> {
        self.put_or_post(Method::POST, "/images", draft).await
    }

    /// Removes an image.
    pub async fn remove_image(&self, name: &str) -> Result<(), ClientError> {
        self.delete(&format!("/images/{}", part(name))).await
    }

    /// All answers.
    pub async fn all_answers(&self) -> Result<Vec<AnswersView>, ClientError> {
        self.get("/answers").await
    }

    /// One set of answers, or another layer: `site:`, `label:NAME`, `machine:NAME`.
    pub async fn answers(&self, name: &str) -> Result<AnswersView, ClientError> {
        self.get(&format!("/answers/{}", part(name))).await
    }

    /// Every version that answers, or another layer, ever had, newest first.
    pub async fn answers_versions(&self, name: &str) -> Result<Vec<AnswersView>, ClientError> {
        self.get(&format!("/answers/{}/versions", part(name))).await
    }

    /// Saves a new version of answers, or of another layer.
    pub async fn save_answers(
        &self,
        name: &str,
        settings: &Settings<PasswordInput>,
    ) -> Result<AnswersView, ClientError> {
        self.put_or_post(Method::PUT, &format!("/answers/{}", part(name)), settings).await
    }

    /// Takes answers, or another layer, out of use.
    pub async fn remove_answers(&self, name: &str) -> Result<(), ClientError> {
        self.delete(&format!("/answers/{}", part(name))).await
    }

    /// The answer files as a machine would get them.
    pub async fn preview_answers(
        &self,
        name: &str,
        request: &AnswersPreviewRequest,
    ) -> Result<AnswersPreview, ClientError> {
        self.put_or_post(Method::POST, &format!("/answers/{}/preview", part(name)), request).await
    }

    /// Two versions, or the files of two machines, held against each other.
    pub async fn compare_answers(
        &self,
        name: &str,
        query: &AnswersCompareQuery,
    ) -> Result<AnswersComparison, ClientError> {
        self.read(self.request(Method::GET, &format!("/answers/{}/compare", part(name))).query(query)).await
    }

    /// Looks at every pair of answers and image, with every machine.
    pub async fn lint_answers(&self) -> Result<LintReport, ClientError> {
        self.get("/answer-lint").await
    }

    /// Arms what an ended install was to do once more.
    pub async fn retry_install(&self, number: i64) -> Result<InstallRow, ClientError> {
        self.put_or_post(Method::POST, &format!("/installs/{number}/retry"), &()).await
    }

    /// Answers questions that an install waits for.
    pub async fn answer_install(
        &self,
        number: i64,
        request: &AskedRequest,
    ) -> Result<InstallRow, ClientError> {
        self.put_or_post(Method::POST, &format!("/installs/{number}/answer"), request).await
    }

    /// A page of machines.
    pub async fn machines(&self, query: &MachineQuery) -> Result<MachineList, ClientError> {
        self.read(self.request(Method::GET, "/machines").query(query)).await
    }

    /// One machine.
    pub async fn machine(&self, name: &str) -> Result<MachineDetail, ClientError> {
        self.get(&format!("/machines/{}", part(name))).await
    }

    /// Registers a machine.
    pub async fn create_machine(&self, draft: &MachineDraft) -> Result<MachineRow, ClientError> {
        self.put_or_post(Method::POST, "/machines", draft).await
    }

    /// Replaces a machine.
    pub async fn replace_machine(&self, name: &str, draft: &MachineDraft) -> Result<MachineRow, ClientError> {
        self.put_or_post(Method::PUT, &format!("/machines/{}", part(name)), draft).await
    }

    /// Removes a machine.
    pub async fn remove_machine(&self, name: &str) -> Result<(), ClientError> {
        self.delete(&format!("/machines/{}", part(name))).await
    }

    /// A page of installs.
    pub async fn installs(&self, query: &InstallQuery) -> Result<InstallList, ClientError> {
        self.read(self.request(Method::GET, "/installs").query(query)).await
    }

    /// One install.
    pub async fn install(&self, number: i64) -> Result<InstallDetail, ClientError> {
        self.get(&format!("/installs/{number}")).await
    }

    /// Arms an install.
    pub async fn arm(&self, request: &ArmRequest) -> Result<InstallRow, ClientError> {
        self.put_or_post(Method::POST, "/installs", request).await
    }

    /// Arms an install of the same image on several machines: on all of them, or on none.
    pub async fn arm_several(&self, several: &ArmSeveral) -> Result<Vec<InstallRow>, ClientError> {
        self.put_or_post(Method::POST, "/installs/several", several).await
    }

    /// What arming would do to each machine; it changes nothing.
    pub async fn outlook(&self, several: &ArmSeveral) -> Result<Vec<Outlook>, ClientError> {
        self.put_or_post(Method::POST, "/installs/outlook", several).await
    }

    /// Calls an install off.
    pub async fn cancel_install(&self, number: i64) -> Result<InstallRow, ClientError> {
        self.put_or_post(Method::POST, &format!("/installs/{number}/cancel"), &()).await
    }

    /// Arms what several ended installs were to do once more: all of them, or none.
    pub async fn retry_installs(&self, numbers: &[i64]) -> Result<Vec<InstallRow>, ClientError> {
        let numbers = InstallNumbers { numbers: numbers.into() };
        self.put_or_post(Method::POST, "/installs/retry", &numbers).await
    }

    /// Calls several installs off.
    pub async fn cancel_installs(&self, numbers: &[i64]) -> Result<Vec<InstallRow>, ClientError> {
        let numbers = InstallNumbers { numbers: numbers.into() };
        self.put_or_post(Method::POST, "/installs/cancel", &numbers).await
    }

    /// What names and addresses by pattern would be.
    pub async fn preview_naming(&self, draft: &NamingDraft) -> Result<NamingView, ClientError> {
        self.put_or_post(Method::POST, "/naming/preview", draft).await
    }

    /// Gives machines names and addresses by pattern.
    pub async fn apply_naming(&self, draft: &NamingDraft) -> Result<NamingView, ClientError> {
        self.put_or_post(Method::POST, "/naming", draft).await
    }

    /// Which host has which image revision, since when, and from whom.
    pub async fn host_history(&self, query: &HostsQuery) -> Result<HostHistory, ClientError> {
        self.read(self.request(Method::GET, "/history/hosts").query(query)).await
    }

    /// The same as comma-separated values.
    pub async fn host_history_csv(&self, query: &HostsQuery) -> Result<String, ClientError> {
        let query = HostsQuery { format: Some(Format::Csv), ..query.clone() };
        self.text(self.request(Method::GET, "/history/hosts").query(&query)).await
    }

    /// How installs went.
    pub async fn rates(&self, query: &RatesQuery) -> Result<RateReport, ClientError> {
        self.read(self.request(Method::GET, "/history/rates").query(query)).await
    }

    /// The groups of it as comma-separated values.
    pub async fn rates_csv(&self, query: &RatesQuery) -> Result<String, ClientError> {
        let query = RatesQuery { format: Some(Format::Csv), ..query.clone() };
        self.text(self.request(Method::GET, "/history/rates").query(&query)).await
    }

    /// Where ends of installs are told.
    pub async fn handovers(&self) -> Result<Vec<HandoverView>, ClientError> {
        self.get("/handovers").await
    }

    /// Adds a handover, or changes the one of its name.
    pub async fn save_handover(
        &self,
        name: &str,
        draft: &HandoverDraft,
    ) -> Result<HandoverView, ClientError> {
        self.put_or_post(Method::PUT, &format!("/handovers/{}", part(name)), draft).await
    }

    /// Removes a handover.
    pub async fn remove_handover(&self, name: &str) -> Result<(), ClientError> {
        self.delete(&format!("/handovers/{}", part(name))).await
    }

    /// Sends a delivery that tells of nothing.
    pub async fn try_handover(&self, name: &str) -> Result<(), ClientError> {
        self.send(self.request(Method::POST, &format!("/handovers/{}/trial", part(name)))).await.map(drop)
    }

    /// Deliveries, latest first.
    pub async fn deliveries(&self, query: &DeliveryQuery) -> Result<Vec<DeliveryView>, ClientError> {
        self.read(self.request(Method::GET, "/deliveries").query(query)).await
    }

    /// Has a delivery made at once.
    pub async fn send_delivery(&self, number: i32) -> Result<DeliveryView, ClientError> {
        self.put_or_post(Method::POST, &format!("/deliveries/{number}/send"), &()).await
    }

    /// Gives a delivery up.
    pub async fn give_up_delivery(&self, number: i32) -> Result<DeliveryView, ClientError> {
        self.put_or_post(Method::POST, &format!("/deliveries/{number}/give-up"), &()).await
    }

    /// All machines as lines of a hosts file.
    pub async fn hosts_file(&self, query: &ExportQuery) -> Result<String, ClientError> {
        self.text(self.request(Method::GET, "/exports/hosts").query(query)).await
    }

    /// A zone file of a domain, or of a network.
    pub async fn zone_file(&self, query: &ZoneQuery) -> Result<String, ClientError> {
        self.text(self.request(Method::GET, "/exports/zone").query(query)).await
    }

    /// All machines and what they hold.
    pub async fn inventory(&self, query: &ExportQuery) -> Result<Inventory, ClientError> {
        self.read(self.request(Method::GET, "/exports/inventory").query(query)).await
    }

    async fn text(&self, request: reqwest::RequestBuilder) -> Result<String, ClientError> {
        let unreachable = |source| ClientError::Unreachable { server: self.server.clone(), source };
        self.send(request).await?.text().await.map_err(unreachable)
    }

    /// Everything that changes, as it changes. The stream ends with the connection.
    pub async fn events(&self) -> Result<impl Stream<Item = Event> + use<>, ClientError> {
        let response = self.send(self.request(Method::GET, "/events")).await?;
        let events = response.bytes_stream().eventsource();
        // What this version cannot read is of a newer one, and passed over.
        Ok(events.filter_map(async |event| serde_json::from_str(&event.ok()?.data).ok()))
    }
}
