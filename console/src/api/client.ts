import createClient from 'openapi-fetch';
import type { components, paths } from './schema';

type Schemas = components['schemas'];
export type Me = Schemas['Me'];
export type Bisection = Schemas['Bisection'];
export type LogComparison = Schemas['LogComparison'];
export type LogDifference = Schemas['LogDifference'];
export type Cause = Schemas['Cause'];
export type Secret = Schemas['Secret'];
export type Identity = Schemas['Identity'];
export type Package = Schemas['Package'];
export type PackageDetail = Schemas['PackageDetail'];
export type Breach = Schemas['Breach'];
export type Growth = Schemas['Growth'];
export type Gate = Schemas['Gate'];
export type Release = Schemas['Release'];
export type ReleaseDetail = Schemas['ReleaseDetail'];
export type Moment = Schemas['Moment'];
export type Outlet = Schemas['Outlet'];
export type Tester = Schemas['Tester'];
export type Tried = Schemas['Tried'];
export type Publication = Schemas['Publication'];
export type PublicationPlan = Schemas['PublicationPlan'];
export type Person = Schemas['Person'];
export type Token = Schemas['Token'];
export type Push = Schemas['Push'];
export type Kept = Schemas['Kept'];
export type SavedCache = Schemas['SavedCache'];
export type SavedCaches = Schemas['SavedCaches'];
export type CacheRecord = Schemas['CacheRecord'];
export type LedgerEntry = Schemas['LedgerEntry'];
export type LedgerLine = Schemas['LedgerLine'];
export type ReleaseNote = Schemas['ReleaseNote'];
export type ReleaseNotes = Schemas['ReleaseNotes'];
export type Rules = Schemas['Rules'];
export type Reported = Schemas['Reported'];
export type Group = Schemas['Group'];
export type Grant = Schemas['Grant'];
export type Run = Schemas['Run'];
export type RunDetail = Schemas['RunDetail'];
export type Job = Schemas['Job'];
export type Step = Schemas['Step'];
export type Project = Schemas['Project'];
export type Artifact = Schemas['Artifact'];
export type GraphJob = Schemas['GraphJob'];
export type Input = Schemas['DefinedInput'];
export type PipelineNote = Schemas['PipelineNote'];
export type Failure = Schemas['Failure'];
export type Finding = Schemas['Finding'];
export type Line = Schemas['Line'];
export type Change = Schemas['Change'];
export type LogBatch = Schemas['LogBatch'];
export type Overview = Schemas['Overview'];
export type PipelineOverview = Schemas['PipelineOverview'];
export type RunTick = Schemas['RunTick'];
export type Stay = Schemas['Stay'];
export type Wishes = Schemas['Wishes'];
export type LookAround = Schemas['Shell'];
export type Times = Schemas['Times'];
export type TimedRun = Schemas['TimedRun'];
export type TimedStep = Schemas['TimedStep'];
export type TimedChange = Schemas['TimedChange'];
export type StepTimes = Schemas['StepTimes'];
export type RunTimes = Schemas['RunTimes'];
export type Stretch = Schemas['Stretch'];
export type Shorter = Schemas['Shorter'];
export type SlowerStep = Schemas['SlowerStep'];
export type Since = Schemas['Since'];
export type TestCase = Schemas['TestCase'];
export type TestHistory = Schemas['TestHistory'];
export type KnownFailure = Schemas['KnownFailure'];
export type FailureSeen = Schemas['FailureSeen'];
export type Usage = Schemas['Usage'];
export type Budget = Schemas['Budget'];
export type LogHit = Schemas['LogHit'];
export type Webhook = Schemas['Webhook'];
export type State = Job['state'] | Step['state'];

export const api = createClient<paths>({ baseUrl: '/' });

/** An answer of the service that is no success, in its own words. */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message);
  }
}

/** Takes the data of an answer, or throws what the service said. */
export function take<T>(answer: { data?: T; error?: { detail?: string; title?: string }; response: Response }): T {
  if (answer.data !== undefined) return answer.data;
  throw new Refusal(
    answer.response.status,
    answer.error?.detail ?? answer.error?.title ?? `The service answered ${answer.response.status}.`,
  );
}

/** Takes an answer without data, or throws what the service said. */
export function done(answer: { response: Response; error?: { detail?: string } }) {
  if (!answer.response.ok) take(answer);
}

const base = '/api/v1/projects';
export const ledgerAddress = (project: string, search: Record<string, string>) =>
  `${base}/${encodeURIComponent(project)}/ledger/all?${new URLSearchParams(search).toString()}`;
export const artifactAddress = (project: string, run: number, id: number) =>
  `${base}/${encodeURIComponent(project)}/runs/${run}/artifacts/${id}`;
export const logAddress = (project: string, run: number, job: string, attempt: number) =>
  `${base}/${encodeURIComponent(project)}/runs/${run}/jobs/${encodeURIComponent(job)}/log.txt?attempt=${attempt}`;
