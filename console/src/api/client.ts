import createClient from "openapi-fetch";

import type { components, paths } from "./schema.gen";

type Schemas = components["schemas"];
export type MachineRow = Schemas["MachineRow"];
export type MachineDetail = Schemas["MachineDetail"];
export type MachineList = Schemas["MachineList"];
export type InstallRow = Schemas["InstallRow"];
export type InstallDetail = Schemas["InstallDetail"];
export type InstallList = Schemas["InstallList"];
export type InstallState = Schemas["InstallState"];
export type JobRow = Schemas["JobRow"];
export type JobDetail = Schemas["JobDetail"];
export type JobState = Schemas["JobState"];
export type JobTask = Schemas["Task"];
export type JobList = Schemas["JobList"];
export type ArmJobs = Schemas["ArmJobs"];
export type ShellWord = Schemas["ShellWord"];
export type BurnIn = Schemas["BurnIn"];
export type BurnInFound = Schemas["BurnInFound"];
export type Stage = Schemas["Stage"];
export type Step = Schemas["StepKind"];
export type LiveEvent = Schemas["Event"];
export type SubnetDraft = Schemas["SubnetDraft"];
export type Fault = Schemas["Fault"];
export type Reason = Schemas["Reason"];
export type SubnetView = Schemas["SubnetView"];
export type Picture = Schemas["Picture"];
export type Span = Schemas["Span"];
export type Holding = Schemas["Holding"];
export type Advice = Schemas["Advice"];
export type Trace = Schemas["Trace"];
export type TraceLine = Schemas["TraceLine"];
/** What the service sends is whole; the document lets what agents send leave out what they did not find. */
type Whole<T> = T extends (infer Item)[] ? Whole<Item>[] : T extends object ? { [Key in keyof T]-?: Whole<Exclude<T[Key], undefined>> } : T;
export type FactsView = Whole<Schemas["FactsView"]>;
export type FactsDifference = Schemas["FactsDifference"];
export type SurveyRow = Schemas["SurveyRow"];
export type SurveyBuild = Schemas["SurveyBuild"];
export type NewcomerView = Schemas["NewcomerView"];
export type Spread = Schemas["FactsSpread"];
export type RuleRun = Schemas["RuleRun"];
export type RuleView = Schemas["RuleView"];
export type RuleDraft = Schemas["RuleDraft"];
export type RuleTrial = Schemas["RuleTrial"];
export type RuleTrialRow = Schemas["RuleTrialRow"];
export type RuleUseView = Schemas["RuleUseView"];
export type MachineRules = Schemas["MachineRules"];
export type VerdictView = Schemas["VerdictView"];
export type FailingPart = Schemas["FailingPart"];
export type EffectView = Schemas["EffectView"];
export type KeptView = Schemas["KeptView"];
export type ProposalView = Schemas["ProposalView"];
export type LocationView = Schemas["LocationView"];
export type LocationsReport = Schemas["LocationsReport"];
export type RackView = Schemas["RackView"];
export type RackUnitView = Schemas["RackUnitView"];
export type RackOccupant = Schemas["RackOccupant"];
export type TraceComparison = Schemas["TraceComparison"];
export type Diagnosis = Schemas["Diagnosis"];
export type CheckReport = Schemas["CheckReport"];
export type Finding = Schemas["Finding"];
export type Severity = Schemas["Severity"];
export type Problem = Schemas["Problem"];
export type ImageRow = Schemas["ImageRow"];
export type ImageDetail = Schemas["ImageDetail"];
export type RevisionRow = Schemas["RevisionRow"];
export type RevisionDraft = Schemas["RevisionDraft"];
export type Inspection = Schemas["Inspection"];
export type FileEntry = Schemas["FileEntry"];
export type Upload = Schemas["Upload"];
export type Work = Schemas["Work"];
export type LoaderView = Schemas["LoaderView"];
export type FoundLoader = Schemas["FoundLoader"];
export type MenuView = Schemas["MenuView"];
export type MenuDraft = Schemas["MenuDraft"];
export type EntryDraft = Schemas["EntryDraft"];
export type ActionDraft = Schemas["ActionDraft"];
export type MenuPreview = Schemas["MenuPreview"];
export type LabelView = Schemas["LabelView"];
export type SiteSettings = Schemas["SiteSettings"];
export type Language = Schemas["Language"];
export type Parameter = Schemas["Parameter"];
export type SettingsDraft = Schemas["Settings_PasswordInput"];
export type AnswersView = Schemas["AnswersView"];
export type AnswersPreview = Schemas["AnswersPreview"];
export type LintReport = Schemas["LintReport"];
export type ArmSeveral = Schemas["ArmSeveral"];
export type ArmPreview = Schemas["ArmPreview"];
export type Question = Schemas["Question"];
export type HostHistory = Schemas["HostHistory"];
export type HostRecord = Schemas["HostRecord"];
export type RateReport = Schemas["RateReport"];
export type Tally = Schemas["Tally"];
export type Day = Schemas["Day"];
export type WebhookView = Schemas["WebhookView"];
export type WebhookEvent = Schemas["WebhookEvent"];
export type DeliveryView = Schemas["DeliveryView"];
export type Overview = Schemas["Overview"];
export type Attention = Schemas["Attention"];
export type AttentionKind = Schemas["AttentionKind"];
export type MachineDraft = Schemas["MachineDraft"];
export type LabelDraft = Schemas["LabelDraft"];
export type LoaderDraft = Schemas["LoaderDraft"];
export type ImportReport = Schemas["ImportReport"];
export type ImportedRow = Schemas["ImportedRow"];
export type Edit = Schemas["Edit"];
export type FieldChange = Schemas["FieldChange"];
export type Changed = Schemas["Changed"];
export type NamingDraft = Schemas["NamingDraft"];
export type NamedMachine = Schemas["NamedMachine"];

/** The typed client of the service that served this page. */
export const api = createClient<paths>({ baseUrl: window.location.origin, headers: { "lastmile-user": "console" } });

/** What makes a call one that is only tried: everything is checked and answered as if it were done. */
export const TRYING = { headers: { "lastmile-dry-run": "true" } };

/** A refused or failed call, with the service's own words. */
export class CallError extends Error {
  constructor(readonly problem: Problem | undefined) {
    super(problem?.detail ?? problem?.title ?? "The service does not answer.");
  }
}

/** What is wrong with an input that was refused; nothing where a call failed for another reason. */
export function faultsOf(error: Error | null): Fault[] {
  return error instanceof CallError ? (error.problem?.faults ?? []) : [];
}

/** What was read of one thing, with which saved form of it this is. */
export type Edited<T> = T & { etag: string };

/** The answer of a call about one thing that people change, with its ETag. */
export function edited<T extends object>(result: { data?: T; error?: unknown; response: Response }): Edited<T> {
  return { ...answer(result), etag: result.response.headers.get("etag") ?? "" };
}

/** The header by which the service refuses a change of what somebody else has changed since. */
export function basedOn(etag: string | undefined): { "If-Match"?: string } {
  return etag ? { "If-Match": etag } : {};
}

/** That somebody else has saved meanwhile; nothing where a call failed for another reason. */
export function conflictOf(error: Error | null): Problem | undefined {
  return error instanceof CallError && error.problem?.status === 412 ? error.problem : undefined;
}

/** Throws the error of a call that gives no content, if it has one. */
export function done(result: { error?: unknown }): void {
  if (result.error !== undefined) {
    answer(result);
  }
}

/** The answer of a call, or the error that says why there is none. */
export function answer<T>(result: { data?: T; error?: unknown }): T {
  if (result.data !== undefined) {
    return result.data;
  }
  const known = typeof result.error === "object" && result.error !== null && "title" in result.error;
  throw new CallError(known ? (result.error as Problem) : undefined);
}
