/** Calls to the server. Types come from its own description. */
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Sheet = Schemas["SheetView"];
export type SheetItem = Schemas["SheetItem"];
export type SourceRow = Schemas["SourceRow"];
export type Deliverable = Schemas["DeliverableColumn"];
export type ChangedColumn = Schemas["ChangedColumn"];
export type Cell = Schemas["Cell"];
export type CellKey = Schemas["CellKey"];
export type Run = Schemas["RunView"];
export type CellRun = Schemas["CellRun"];
export type RunState = Schemas["RunState"];
export type Progress = NonNullable<Run["progress"]>;
export type Output = Schemas["OutputView"];
export type Decision = Schemas["Decision"];
export type Preset = Schemas["Preset"];
export type TrackWish = Schemas["TrackWish"];
export type PresetItem = Schemas["PresetView"];
export type PresetVersion = Schemas["VersionView"];
export type Storage = Schemas["StorageView"];
export type Entry = Schemas["Entry"];
export type Folders = Schemas["FoldersView"];
export type QueuePart = Schemas["QueueView"];
export type Night = Schemas["NightView"];
export type QueueItem = Schemas["QueueItem"];
export type NightJob = Night["jobs"][number];
export type Viewing = Schemas["Viewing"];
export type Upload = Schemas["UploadView"];
export type Reading = Schemas["Reading"];
export type Bench = Schemas["BenchView"];
export type BenchSuggestion = Schemas["BenchSuggestion"];
export type SheetSuggestion = Schemas["SheetSuggestion"];
export type RowsBefore = Schemas["RowsBefore"];
export type Asset = Schemas["AssetView"];
export type Comparison = Schemas["Comparison"];
export type CellProofs = Schemas["CellProofs"];
export type Proof = Schemas["ProofView"];
export type Crop = Schemas["Crop"];
export type Curves = Schemas["Curves"];
export type Evidence = Schemas["Evidence"];
export type ShownField = Schemas["ShownField"];
export type WatchFolder = Schemas["WatchFolderView"];
export type WatchStage = Schemas["WatchStage"];
export type WatchState = Schemas["WatchState"];
export type WatchFile = Schemas["WatchFileView"];
export type NewWatchFolder = Schemas["NewWatchFolder"];
export type Problem = Schemas["Problem"];
export type Settings = Schemas["Settings"];
/** An editor's own settings, on a preset. */
export type Patch = Schemas["PresetPatch"];
export type Section = Schemas["Section"];
export type Token = Schemas["Token"];
export type Tried = Schemas["Tried"];
export type SubjectCost = Schemas["SubjectCost"];
export type Setting = Schemas["Setting"];
export type Kind = Schemas["Kind"];
export type Limits = Schemas["Limits"];
export type Change = Schemas["Change"];
export type StreamEvent = Schemas["Event"];

/** A refusal of the server, with what to do next. */
export class Refusal extends Error {
  readonly problem: Problem;

  constructor(problem: Problem) {
    super(`${problem.what}: ${problem.why}`);
    this.problem = problem;
  }
}

function isProblem(value: unknown): value is Problem {
  return typeof value === "object" && value !== null && "what" in value && "why" in value && "next" in value;
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const headers: Record<string, string> = {};
  const init: RequestInit = { method, headers };
  if (body instanceof Blob) {
    init.body = body;
    headers["content-type"] = "application/octet-stream";
  } else if (body !== undefined) {
    init.body = JSON.stringify(body);
    headers["content-type"] = "application/json";
  }
  // What creates something is answered once, however often it is asked because an answer was lost on its way.
  if (method === "POST" && !(body instanceof Blob)) headers["idempotency-key"] = crypto.randomUUID();
  let response: Response;
  try {
    response = await fetch(path, init).catch((error: unknown) => {
      if (body instanceof Blob) throw error;
      return fetch(path, init);
    });
  } catch (error) {
    throw new Refusal({
      kind: "internal",
      what: "the server could not be reached",
      why: "it does not answer",
      next: "Look whether it is running; this page goes on by itself when it is back.",
      details: String(error),
    });
  }
  const text = await response.text();
  const answer: unknown = text === "" ? undefined : parse(text);
  if (!response.ok) {
    throw new Refusal(
      isProblem(answer)
        ? answer
        : {
            kind: "internal",
            what: "the server refused",
            why: text || response.statusText,
            next: "Try again.",
            details: "",
          },
    );
  }
  return answer as T;
}

function parse(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}

export interface NewDeliverable {
  preset: Preset;
  storage: string | null;
  folder: string;
  name_pattern: string;
  clash: Deliverable["clash"];
}

/** What is to be proved: moments and seconds as exact fractions; each variant's settings a merge patch. */
export interface NewProofs extends CellKey {
  sheet: string;
  moments: string[];
  seconds: string;
  /** One proof of many short stretches instead, which foretells the size. */
  size?: boolean;
  variants: { label: string; overrides: Patch }[];
}

export const api = {
  sheets: () => call<SheetItem[]>("GET", "/api/sheets"),
  sheet: (id: string) => call<Sheet>("GET", `/api/sheets/${id}`),
  addSheet: (name: string) => call<Sheet>("POST", "/api/sheets", { name }),
  duplicateSheet: (id: string, name: string) => call<Sheet>("POST", `/api/sheets/${id}/duplicate`, { name }),
  suggestions: (sheet: string) => call<SheetSuggestion[]>("GET", `/api/sheets/${sheet}/suggestions`),
  renameSheet: (id: string, name: string) => call<undefined>("PATCH", `/api/sheets/${id}`, { name }),
  removeSheet: (id: string) => call<undefined>("DELETE", `/api/sheets/${id}`),
  addSources: (sheet: string, storage: string, paths: string[]) =>
    call<{ added: number; found: number }>("POST", `/api/sheets/${sheet}/sources`, { storage, paths }),
  removeSources: (sheet: string, sources: string[]) =>
    call<undefined>("DELETE", `/api/sheets/${sheet}/sources`, { sources }),
  addDeliverable: (sheet: string, column: NewDeliverable) =>
    call<Deliverable>("POST", `/api/sheets/${sheet}/deliverables`, column),
  changeDeliverable: (id: string, column: NewDeliverable) =>
    call<ChangedColumn>("PUT", `/api/deliverables/${id}`, column),
  removeDeliverable: (id: string) => call<undefined>("DELETE", `/api/deliverables/${id}`),
  setCells: (sheet: string, cells: CellKey[], change: { enabled?: boolean; overrides?: Patch }) =>
    call<undefined>("POST", `/api/sheets/${sheet}/cells`, { cells, ...change }),
  run: (sheet: string, cells?: CellKey[]) =>
    call<{ runs: string[]; passed_over: number; unread: number }>(
      "POST",
      `/api/sheets/${sheet}/run`,
      cells ? { cells } : {},
    ),
  /** Of all open runs where none are named. */
  act: (action: "pause" | "resume" | "cancel" | "retry", runs: string[] | null) =>
    call<{ done: number }>("POST", "/api/runs", { action, runs }),
  release: (run: string, because: string) => call<undefined>("POST", `/api/runs/${run}/release`, { because }),
  discard: (run: string) => call<undefined>("POST", `/api/runs/${run}/discard`),
  moveRuns: (runs: string[], before: string | null) =>
    call<{ done: number }>("POST", "/api/queue/order", { runs, before }),
  restore: (sheet: string, removed: { sources?: string[]; deliverables?: string[] } = {}) =>
    call<undefined>("POST", `/api/sheets/${sheet}/restore`, removed),
  /** From where a source can be saved. */
  sourceFile: (source: string) => `/api/sources/${source}/media`,
  /** From where a finished file can be saved: of several that belong together, the one at this place. */
  mediaOf: (run: string, file: number) => `/api/runs/${run}/media?file=${String(file)}`,
  tryPreset: (preset: Preset, source: string | null) => call<Tried>("POST", "/api/presets/try", { preset, source }),
  viewing: (of: "sources" | "runs", id: string, sound: number | null = null) =>
    call<Viewing>("POST", `/api/${of}/${id}/viewing${sound === null ? "" : `?sound=${String(sound)}`}`),
  upload: (id: string) => call<Upload>("GET", `/api/uploads/${id}`),
  output: (cell: CellKey) => call<Output>("GET", `/api/outputs/${cell.source}/${cell.deliverable}`),
  bench: (sheet: string, source: string) => call<Bench>("GET", `/api/sheets/${sheet}/sources/${source}`),
  setRows: (sheet: string, sources: string[], overrides: Patch, keep = false) =>
    call<RowsBefore[]>("POST", `/api/sheets/${sheet}/rows`, { sources, overrides, keep }),
  split: (sheet: string, source: string, parts: Patch["parts"]) =>
    call<string[]>("POST", `/api/sheets/${sheet}/sources/${source}/split`, { parts }),
  crop: (
    source: string,
    rule: Preset["picture"] extends infer P ? (NonNullable<P> extends { crop?: infer C } ? C : never) : never,
  ) => call<Crop>("POST", `/api/sources/${source}/crop`, { rule }),
  assets: () => call<Asset[]>("GET", "/api/assets"),
  removeAsset: (id: string) => call<undefined>("DELETE", `/api/assets/${id}`),
  addAsset: (kind: Asset["kind"], name: string, file: Blob) =>
    call<Asset>("POST", `/api/assets?kind=${kind}&name=${encodeURIComponent(name)}`, file),
  proofs: (cell: CellKey) => call<CellProofs>("GET", `/api/outputs/${cell.source}/${cell.deliverable}/proofs`),
  prove: (wish: NewProofs) => call<string[]>("POST", "/api/proofs", wish),
  removeProof: (id: string) => call<undefined>("DELETE", `/api/proofs/${id}`),
  proofCurve: (id: string) => call<Comparison>("GET", `/api/proofs/${id}/curve`),
  curves: (source: string) => call<Curves>("GET", `/api/sources/${source}/curves`),
  queue: (from: number, count: number, sheet: string | null) =>
    call<QueuePart>(
      "GET",
      `/api/queue?from=${String(from)}&count=${String(count)}${sheet === null ? "" : `&sheet=${sheet}`}`,
    ),
  night: () => call<Night>("GET", "/api/night"),
  watchFolders: () => call<WatchFolder[]>("GET", "/api/watch"),
  addWatchFolder: (folder: NewWatchFolder) => call<WatchFolder>("POST", "/api/watch", folder),
  changeWatchFolder: (id: string, folder: NewWatchFolder) => call<undefined>("PUT", `/api/watch/${id}`, folder),
  restoreWatchFolder: (id: string) => call<undefined>("POST", `/api/watch/${id}/restore`),
  removeWatchFolder: (id: string) => call<undefined>("DELETE", `/api/watch/${id}`),
  insideWatch: (id: string) => call<{ files: number; bytes: number }>("GET", `/api/watch/${id}/inside`),
  switchWatch: (id: string, to: "on" | "off", present: "take" | "leave" | null = null) =>
    call<undefined>("POST", `/api/watch/${id}/${to}`, to === "on" ? { present } : undefined),
  watchFiles: (id: string, state: WatchState) => call<WatchFile[]>("GET", `/api/watch/${id}/files?state=${state}`),
  takeWatchFiles: (id: string, paths: string[]) => call<undefined>("POST", `/api/watch/${id}/files`, { paths }),
  catalogue: () => call<Section[]>("GET", "/api/catalogue"),
  presets: () => call<PresetItem[]>("GET", "/api/presets"),
  savePreset: (preset: unknown) => call<PresetItem>("POST", "/api/presets", preset),
  /** Changes a preset of the house, its id too. */
  changePreset: (id: string, preset: unknown) =>
    call<PresetItem>("PUT", `/api/presets/${encodeURIComponent(id)}`, preset),
  presetVersions: (id: string) => call<PresetVersion[]>("GET", `/api/presets/${encodeURIComponent(id)}/versions`),
  removePreset: (id: string) => call<undefined>("DELETE", `/api/presets/${id}`),
  storages: () => call<Storage[]>("GET", "/api/storages"),
  folders: (path: string | null) =>
    call<Folders>("GET", `/api/machine/folders${path === null ? "" : `?path=${encodeURIComponent(path)}`}`),
  addStorage: (name: string, root: string) => call<Storage>("POST", "/api/storages", { name, root }),
  removeStorage: (id: string) => call<undefined>("DELETE", `/api/storages/${id}`),
  retireStorage: (id: string, is_retired: boolean) =>
    call<undefined>("PUT", `/api/storages/${id}/retirement`, { is_retired }),
  markStorage: (id: string) => call<undefined>("POST", `/api/storages/${id}/marker`),
  entries: (storage: string, path: string) =>
    call<Entry[]>("GET", `/api/storages/${storage}/entries?path=${encodeURIComponent(path)}`),
  entryPicture: (storage: string, path: string) =>
    `/api/storages/${storage}/entries/picture?path=${encodeURIComponent(path)}`,
  settings: () => call<Settings>("GET", "/api/settings"),
  saveSettings: (settings: Settings) => call<Settings>("PUT", "/api/settings", settings),
};
