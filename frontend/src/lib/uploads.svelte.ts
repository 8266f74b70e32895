// Files on their way in by the open tus protocol: each with its own progress, cancel and retry, gone on with after any break.
import type { DetailedError, Upload as Transfer } from 'tus-js-client';
import type { Unfinished } from './api';
import { size } from './format';
import { largest, parts } from './server/uploads';

const ENDPOINT = '/api/uploads';
const PIECE_BYTES = 8 * 1024 * 1024;
const RETRY_AFTER_MS = [300, 1000, 2000, 4000, 8000];

export interface Wanted {
  /** The production it is for; none for an archive to be imported. */
  productionId?: string;
  file: File;
  /** The recording whose place the file takes. */
  replaces?: string;
}

export class Upload {
  readonly name: string;
  readonly size: number;
  fraction = $state(0);
  state = $state<'waiting' | 'sending' | 'done' | 'failed' | 'cancelled'>('waiting');
  error = $state('');
  #transfer: Transfer | undefined;
  #ended: (() => void) | undefined;

  constructor(
    readonly wanted: Wanted,
    readonly key: number,
  ) {
    this.name = wanted.file.name;
    this.size = wanted.file.size;
  }

  get modified(): string {
    return String(this.wanted.file.lastModified);
  }

  /** Send it, from where it was left if a part is there already. Resolves when it has ended, in whatever way. */
  async send(): Promise<void> {
    this.state = 'sending';
    const { productionId, replaces } = this.wanted;
    const there = (await parts(productionId)).find((part) => matches(part, this));
    if (this.state !== 'sending') return;
    const { Upload: Sender } = await import('tus-js-client');
    if (this.state !== 'sending') return;
    await new Promise<void>((resolve) => {
      this.#ended = resolve;
      this.#transfer ??= new Sender(this.wanted.file, {
        endpoint: ENDPOINT,
        uploadUrl: there ? `${ENDPOINT}/${there.id}` : null,
        chunkSize: PIECE_BYTES,
        retryDelays: RETRY_AFTER_MS,
        storeFingerprintForResuming: false,
        metadata: {
          filename: this.name,
          filetype: this.wanted.file.type || 'audio',
          modified: this.modified,
          ...(productionId ? { production: productionId } : { archive: '1' }),
          ...(replaces ? { replaces } : {}),
        },
        onProgress: (sent, total) => (this.fraction = total ? sent / total : 1),
        onShouldRetry: (error) => !refused(error),
        onSuccess: () => this.#end('done'),
        onError: (error) => this.#end('failed', said(error)),
      });
      this.#transfer.start();
    });
  }

  /** Stop, and forget what came in. */
  cancel(): void {
    const sending = this.#transfer;
    this.#end('cancelled');
    void sending?.abort(true).catch(() => undefined);
  }

  #end(state: 'done' | 'failed' | 'cancelled', error = ''): void {
    this.state = state;
    this.error = error;
    if (state === 'done') this.fraction = 1;
    this.#ended?.();
  }
}

/** What the server answered, where an error is one of its answers. */
const answerOf = (error: unknown) => (error as Partial<DetailedError>).originalResponse ?? undefined;
const statusOf = (error: unknown) => answerOf(error)?.getStatus() ?? 0;

/** Whether the server answered and will not change its mind. */
function refused(error: unknown): boolean {
  const status = statusOf(error);
  return status >= 400 && status < 500 && status !== 409 && status !== 423;
}

function said(error: unknown): string {
  const body = answerOf(error)?.getBody() ?? '';
  try {
    const found = JSON.parse(body) as { error?: string };
    if (found.error) return found.error;
  } catch {
    // Not our own answer; a plain sentence stands for it.
  }
  return statusOf(error)
    ? 'The server rejected this file. Try again.'
    : 'Connection lost. Your progress is saved; try again to resume.';
}

export const matches = (part: Unfinished, upload: Upload) =>
  part.name === upload.name && part.size_bytes === upload.size && part.modified === upload.modified;

export class Uploads {
  list = $state<Upload[]>([]);
  /** The most one file may hold, in bytes, once the server has said so. */
  largest = $state<number>();
  #next = 0;
  #sending = false;

  /** Whether something would be broken off if the page were left. */
  get busy(): boolean {
    return this.list.some(({ state }) => state === 'waiting' || state === 'sending');
  }

  /** Learn what the server takes, once somebody is let in. */
  open(): void {
    void largest().then(
      (bytes) => (this.largest = bytes),
      () => undefined,
    );
  }

  add(productionId: string | undefined, files: Iterable<File>, replaces?: string): void {
    for (const file of files) {
      const upload = new Upload({ productionId, file, replaces }, this.#next++);
      if (productionId && this.largest !== undefined && file.size > this.largest) {
        upload.state = 'failed';
        upload.error = `“${file.name}” is ${size(file.size)}; the limit is ${size(this.largest)}. Split it, then add the parts.`;
      }
      this.list.push(upload);
    }
    void this.#pump();
  }

  retry(upload: Upload): void {
    upload.state = 'waiting';
    void this.#pump();
  }

  cancel(upload: Upload): void {
    upload.cancel();
    this.dismiss(upload);
  }

  dismiss(upload: Upload): void {
    this.list = this.list.filter((other) => other !== upload);
  }

  /** One after the other, so that recordings stand in the order their files were given. */
  async #pump(): Promise<void> {
    if (this.#sending) return;
    this.#sending = true;
    for (;;) {
      const next = this.list.find((upload) => upload.state === 'waiting');
      if (!next) break;
      await next.send();
      if (next.state !== 'failed') this.dismiss(next);
    }
    this.#sending = false;
  }
}
