// Files on their way in: each with its own progress, error, cancel and retry.
export type Wanted = { productionId: string; file: File };

export class Upload {
  readonly name: string;
  readonly size: number;
  fraction = $state(0);
  state = $state<'waiting' | 'sending' | 'done' | 'failed' | 'cancelled'>('waiting');
  error = $state('');
  #request: XMLHttpRequest | undefined;

  constructor(
    readonly wanted: Wanted,
    readonly key: number,
  ) {
    this.name = wanted.file.name;
    this.size = wanted.file.size;
  }

  send(): Promise<void> {
    return new Promise((resolve) => {
      const request = new XMLHttpRequest();
      this.#request = request;
      this.state = 'sending';
      const name = encodeURIComponent(this.name);
      request.open('PUT', `/api/productions/${this.wanted.productionId}/recordings?name=${name}`);
      request.setRequestHeader('content-type', 'application/octet-stream');
      request.upload.onprogress = (event) => (this.fraction = event.loaded / Math.max(event.total, 1));
      request.onload = () => this.#end(request, resolve);
      request.onerror = () => this.#fail('The connection broke. Nothing was kept; try again.', resolve);
      request.onabort = () => {
        this.state = 'cancelled';
        resolve();
      };
      request.send(this.wanted.file);
    });
  }

  cancel(): void {
    if (this.state === 'waiting') this.state = 'cancelled';
    this.#request?.abort();
  }

  #end(request: XMLHttpRequest, resolve: () => void): void {
    if (request.status < 300) {
      this.fraction = 1;
      this.state = 'done';
      resolve();
      return;
    }
    let said = 'The server refused the file.';
    try {
      said = (JSON.parse(request.responseText) as { error?: string }).error ?? said;
    } catch {
      // Not our own answer; the plain sentence stands.
    }
    this.#fail(said, resolve);
  }

  #fail(sentence: string, resolve: () => void): void {
    this.state = 'failed';
    this.error = sentence;
    resolve();
  }
}

export class Uploads {
  list = $state<Upload[]>([]);
  #next = 0;
  #sending = 0;
  static readonly AT_ONCE = 2;

  add(productionId: string, files: Iterable<File>): void {
    for (const file of files) this.list.push(new Upload({ productionId, file }, this.#next++));
    this.#pump();
  }

  retry(upload: Upload): void {
    upload.state = 'waiting';
    upload.fraction = 0;
    this.#pump();
  }

  dismiss(upload: Upload): void {
    this.list = this.list.filter((other) => other !== upload);
  }

  #pump(): void {
    while (this.#sending < Uploads.AT_ONCE) {
      const next = this.list.find((upload) => upload.state === 'waiting');
      if (!next) return;
      this.#sending += 1;
      void next.send().then(() => {
        this.#sending -= 1;
        if (next.state === 'done' || next.state === 'cancelled') this.dismiss(next);
        this.#pump();
      });
    }
  }
}
