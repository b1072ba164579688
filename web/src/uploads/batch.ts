/** Files on their way into a storage: in pieces, one after the other, resumed where they were. */
import { Upload } from "tus-js-client";
import { api } from "../api/client";

/** A dropped file with the folders it lay in. */
export interface Dropped {
  file: File;
  path: string;
}

export interface BatchState {
  files: number;
  /** Files that are whole. */
  done: number;
  bytes: number;
  sent: number;
  /** Bytes a second, over the whole batch. */
  pace: number;
  /** The file that comes now. */
  name: string;
  end: "open" | "done" | "stopped" | { failed: string };
}

/** A lost connection costs one piece at most. */
const PIECE = 16 * 1024 * 1024;
const TRY_AGAIN_AFTER = [0, 1000, 3000, 5000, 10_000, 20_000, 30_000];

export class UploadBatch {
  state: BatchState;
  /** The paths that whole files got. */
  readonly paths: string[] = [];
  private current: Upload | undefined;
  private before = 0;
  private readonly began = performance.now();
  private already = 0;

  constructor(
    private readonly files: Dropped[],
    private readonly storage: string,
    private readonly folder: string,
    private readonly onChange: (state: BatchState) => void,
  ) {
    const bytes = files.reduce((sum, { file }) => sum + file.size, 0);
    this.state = { files: files.length, done: 0, bytes, sent: 0, pace: 0, name: "", end: "open" };
  }

  /** Sends everything; the paths are those of whole files, whatever happens to the rest. */
  async run(): Promise<void> {
    for (const dropped of this.files) {
      if (!this.isOpen()) return;
      this.change({ name: dropped.file.name });
      try {
        await this.send(dropped);
      } catch (error) {
        if (this.isOpen()) this.change({ end: { failed: error instanceof Error ? error.message : String(error) } });
        return;
      }
      this.before += dropped.file.size;
      this.change({ done: this.state.done + 1, sent: this.before });
    }
    if (this.isOpen()) this.change({ end: "done" });
  }

  private isOpen(): boolean {
    return this.state.end === "open";
  }

  /** Stops; what has come of the present file stays for a later drop of it. */
  stop(): void {
    this.change({ end: "stopped" });
    void this.current?.abort();
  }

  private change(change: Partial<BatchState>): void {
    this.state = { ...this.state, ...change };
    this.onChange(this.state);
  }

  private async send({ file, path }: Dropped): Promise<void> {
    const target = this.folder ? `${this.folder}/${path}` : path;
    let finish: () => void = () => undefined;
    let fail: (error: Error) => void = () => undefined;
    const ended = new Promise<void>((resolve, reject) => {
      finish = resolve;
      fail = reject;
    });
    let first = true;
    const upload = new Upload(file, {
      endpoint: "/api/uploads",
      chunkSize: PIECE,
      retryDelays: TRY_AGAIN_AFTER,
      metadata: { storage: this.storage, path: target },
      fingerprint: (input) =>
        Promise.resolve(["beryl", this.storage, target, input.size, input.lastModified].join(" ")),
      removeFingerprintOnSuccess: true,
      onProgress: (sent) => {
        // What an earlier try has sent says nothing of today's line.
        if (first) this.already += Math.max(0, sent - PIECE);
        first = false;
        const seconds = (performance.now() - this.began) / 1000;
        this.change({ sent: this.before + sent, pace: (this.before + sent - this.already) / Math.max(seconds, 0.1) });
      },
      onSuccess: finish,
      onError: fail,
    });
    this.current = upload;
    const previous = (await upload.findPreviousUploads())[0];
    if (previous) upload.resumeFromPreviousUpload(previous);
    upload.start();
    await ended;
    const id = upload.url?.split("/").at(-1) ?? "";
    const { path: placed } = await api.upload(id);
    if (placed == null) throw new Error(`${file.name} did not come whole`);
    this.paths.push(placed);
  }
}

/** The files that were dropped, those in folders with their folders. */
export async function droppedFiles(entries: FileSystemEntry[]): Promise<Dropped[]> {
  const lists = await Promise.all(entries.map(filesBelow));
  return lists.flat().filter(({ path }) => !path.split("/").some((part) => part.startsWith(".")));
}

async function filesBelow(entry: FileSystemEntry): Promise<Dropped[]> {
  if (entry.isFile) {
    const file = await new Promise<File>((resolve, reject) => {
      (entry as FileSystemFileEntry).file(resolve, reject);
    });
    return [{ file, path: entry.fullPath.replace(/^\//, "") }];
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const found: Dropped[] = [];
  for (;;) {
    // A folder is given in parts; an empty one is the last.
    const part = await new Promise<FileSystemEntry[]>((resolve, reject) => {
      reader.readEntries(resolve, reject);
    });
    if (part.length === 0) return found;
    for (const inner of part) found.push(...(await filesBelow(inner)));
  }
}
