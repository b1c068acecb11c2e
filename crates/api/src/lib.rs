//! What crosses the admin API: types, problem details, and the OpenAPI document.
//!
//! Drafts (what a person enters) are the core's own types, whose checks live beside them. What is read
//! back is defined here, because it joins several of the core's records and leaves out what nobody may read.
//!
//! `openapi.json` in this crate is the contract: the service's routes are held against it by a test, and
//! the console's types are generated from it.

mod answers;
mod check;
mod event;
mod export;
mod handover;
mod history;
mod image;
mod install;
mod machine;
mod menu;
mod problem;
mod status;
mod things;
mod trace;

pub use answers::{
    AnswersCompareQuery, AnswersComparison, AnswersFile, AnswersPreview, AnswersPreviewRequest, AnswersView,
    AskedRequest, ComparedLine, LintFinding, LintReport, Side,
};
pub use check::{CheckReport, Finding, Severity};
pub use event::Event;
pub use export::{ExportQuery, Held, Inventory, InventoryMachine, ZoneQuery};
pub use handover::{DeliveryQuery, DeliveryView, HandoverBody, HandoverView};
pub use history::{Format, HostHistory, HostsQuery, RateReport, RatesQuery};
pub use image::{
    CurrentRevision, ImageDetail, ImageRow, ImageTitle, Inspection, RevisionDetail, RevisionRow, Upload,
    UploadRequest, Work,
};
pub use install::{InstallDetail, InstallList, InstallNumbers, InstallQuery, InstallRow, LogLine};
pub use lastmile_core::{
    Fault,
    answers::{PasswordInput, PasswordShown, Question, Settings},
    boot::{
        ActionDraft, Advice, After, Architecture, EntryDraft, HttpReach, Language, LoaderDraft, LoaderFacts,
        MenuDraft, Origin, Parameter,
    },
    dhcp::LeaseState,
    handover::{HandoverDraft, HandoverEvent},
    history::{Day, GroupBy, HostRecord, Rates, Tally},
    image::{Family, FileEntry, ImageKind, RevisionDraft, Sha256, Start, VolumePlace, recognise::Cpu},
    install::{
        ArmRequest, ArmSeveral, InstallState, Outlook, Progress, ReportStage, StageLimits, Step, StepKind,
    },
    machine::{CountBy, LabelDraft, MachineDraft, NamedMachine, NamingDraft, StandingDraft},
    net::{Holding, HttpBoot, Mode, Newcomers, Picture, Proposal, ReservationDraft, Span, SubnetDraft},
    site::SiteSettings,
    trace::{Case, Diagnosis, Mark, Pair, Wire},
};
pub use machine::{
    Installed, LoaderChoice, MachineDetail, MachineList, MachineQuery, MachineRow, MachineSort, NamingView,
    PlanView, Stage,
};
pub use menu::{EntryParameters, LabelView, LeftOutEntry, MenuPreview, MenuView, PreviewRequest, ScreenView};
pub use problem::{PROBLEM_JSON, Problem};
pub use status::{Counters, Status};
pub use things::{ContentView, FoundFile, FoundLoader, LeaseView, LoaderView, ReservationView, SubnetView};
pub use trace::{NewcomerView, OptionLine, Trace, TraceComparison, TraceLine};

/// The OpenAPI document of the admin API, as reviewed.
pub const OPENAPI: &str = include_str!("../openapi.json");

/// Path below which every call of the admin API stands.
pub const BASE: &str = "/api/v1";
