//! What crosses the admin API: types, problem details, and the OpenAPI document.
//!
//! Drafts (what a person enters) are the core's own types, whose checks live beside them. What is read
//! back is defined here, because it joins several of the core's records and leaves out what nobody may read.
//!
//! `openapi.json` in this crate is the contract: the service's routes are held against it by a test, and
//! the console's types are generated from it.

mod answers;
mod bulk;
mod check;
mod edition;
mod edits;
mod event;
mod export;
mod history;
mod image;
mod install;
mod job;
mod machine;
mod menu;
mod overview;
mod problem;
mod rule;
pub mod settings;
mod status;
mod survey;
mod things;
mod trace;
mod webhook;

pub use answers::{
    AnswersCompareQuery, AnswersComparison, AnswersFile, AnswersPreview, AnswersPreviewRequest, AnswersView,
    AskedRequest, ComparedLine, LintFinding, LintReport, Side,
};
pub use bulk::{
    AdoptRequest, Changed, ImportReport, ImportedRow, MachinesChange, MachinesImport, MachinesRemove,
    RenameRequest, Renamed, RowKind,
};
pub use check::{CheckReport, Finding, Severity};
pub use edition::{DraftDifference, differences, etag, parse_etag};
pub use edits::{Edit, EditKind, FieldChange, apply, field_changes};
pub use event::Event;
pub use export::{
    ExportsHostsQuery, ExportsInventoryQuery, ExportsMachinesQuery, ExportsZoneQuery, Held, Inventory,
    InventoryMachine,
};
pub use history::{HistoryHostsQuery, HistoryRatesQuery, HostHistory, RateReport, ReportFormat};
pub use image::{
    CurrentRevision, ImageDetail, ImageRow, ImageTitle, Inspection, RevisionDetail, RevisionRow, Upload,
    UploadRequest, Work,
};
pub use install::{InstallDetail, InstallList, InstallNumbers, InstallRow, InstallsListQuery, LogLine};
pub use job::{JobDetail, JobList, JobNumbers, JobRow, JobsListQuery, JobsShellQuery, MOST_TYPED, ShellWord};
pub use lastmile_core::{
    base::Fault,
    decide::{
        advice::Advice,
        image::RevisionDraft,
        install::{ArmPreview, ArmRequest, ArmSeveral, Progress},
        job::ArmJobs,
        loader::LoaderDraft,
        machine::{CountBy, DefaultBootDraft, LabelDraft, MachineDraft, NamedMachine, NamingDraft},
        menu::{ActionDraft, EntryDraft, MenuDraft},
        rule::{LocationChange, LocationRow, RuleDraft},
        subnet::{Holding, Picture, Proposal, Reason, ReservationDraft, Span, SubnetDraft},
    },
    model::{
        agent::{Finish, ScreenSize},
        answers::{PasswordInput, PasswordShown, Question, Settings},
        compare::{Difference as FactsDifference, Spread, SpreadValue},
        facts::{
            Bmc as FactsBmc, Disk as FactsDisk, DiskHealth, Facts, Nic as FactsNic, PciDevice,
            Volume as DiskVolume,
        },
        image::{Family, FileEntry, ImageKind, Sha256, Start, VolumePlace},
        install::{InstallState, ReportStage, StageLimits, Step, StepKind},
        job::{
            BurnIn, BurnInFound, BurnInPart, JobKind, JobProgress, JobResult, JobState, JobStep, Locate,
            OpenShell, RunCommand, Task,
        },
        lease::LeaseState,
        loader::{HttpReach, Language, LoaderFacts},
        location::Location,
        machine::Given,
        menu::After,
        parameter::{Origin, Parameter},
        rule::RuleMode,
        settings::SiteSettings,
        subnet::{HttpBoot, Identify, Mode, Newcomers},
        webhook::{WebhookDraft, WebhookEvent},
    },
    report::{
        history::{Day, GroupBy, HostRecord, Rates, Tally},
        trace::{Case, Diagnosis, Mark, Pair, Wire},
    },
};
pub use lastmile_formats::{architecture::Architecture, cpu::Cpu, smbios::MemorySlot};
pub use machine::{
    Installed, LoaderChoice, MachineDetail, MachineList, MachineRow, MachineSort, MachinesListQuery,
    NamingView, PlanView, Stage,
};
pub use menu::{EntryParameters, LabelView, LeftOutEntry, MenuPreview, MenuView, PreviewRequest, ScreenView};
pub use overview::{Attention, AttentionKind, Overview, Today};
pub use problem::{PROBLEM_JSON, Problem};
pub use rule::{
    EffectView, FailingPart, KeptView, LocationView, LocationsImport, LocationsRemove, LocationsReport,
    MachineRules, ProposalChosen, ProposalView, ProposalsChosen, RackOccupant, RackUnitView, RackView,
    RuleRun, RuleTrial, RuleTrialRequest, RuleTrialRow, RuleUseView, RuleView, RulesRun, VerdictView,
};
pub use status::{Counters, Status};
pub use survey::{
    AgentView, FactsCompareQuery, FactsComparison, FactsView, KernelSource, LabelComparison, SurveyBuild,
    SurveyRow,
};
pub use things::{
    ContentView, FoundFile, FoundLoader, LeaseView, LoaderPackages, LoaderView, ReservationView, SubnetView,
    SubnetsRemoveQuery,
};
pub use trace::{NewcomerView, OptionLine, Trace, TraceComparison, TraceLine, TracesCompareQuery};
pub use webhook::{DeliveriesListQuery, DeliveryView, WebhookBody, WebhookView};

/// The OpenAPI document of the admin API, as reviewed.
pub const OPENAPI: &str = include_str!("../openapi.json");

/// The header of a call that is only tried: everything is checked and answered as if it were done, and nothing is changed.
pub const DRY_RUN: &str = "lastmile-dry-run";

/// Path below which every call of the admin API stands.
pub const BASE: &str = "/api/v1";
