// What was dropped: files, and the files inside folders, in the order of their names with numbers read as numbers.
const byName = new Intl.Collator('en', { numeric: true, sensitivity: 'base' });
const NO_SOUND = /^(image|text|video)\/|^application\/(pdf|zip|json)/;

export interface Dropped {
  files: File[];
  /** Names of files in folders that plainly hold no sound. What was dropped by itself is never left out. */
  leftOut: string[];
}

interface Found {
  path: string;
  file: File;
  inFolder: boolean;
}

/** Must be called before the drop event has passed: its entries are gone afterwards. */
export async function filesOf(transfer: DataTransfer | null): Promise<Dropped> {
  const items = [...(transfer?.items ?? [])].filter((item) => item.kind === 'file');
  const entries = items.map((item) => ({ entry: item.webkitGetAsEntry(), file: item.getAsFile() }));
  const found: Found[] = [];
  for (const { entry, file } of entries) {
    if (entry?.isDirectory) found.push(...(await inside(entry as FileSystemDirectoryEntry)));
    else if (file) found.push({ path: file.name, file, inFolder: false });
  }
  return sorted(found);
}

/** Files chosen in a dialogue, one by one or by their folder. */
export function chosen(files: FileList | null): Dropped {
  return sorted(
    [...(files ?? [])].map((file) => ({
      path: file.webkitRelativePath || file.name,
      file,
      inFolder: file.webkitRelativePath !== '',
    })),
  );
}

async function inside(folder: FileSystemDirectoryEntry): Promise<Found[]> {
  const reader = folder.createReader();
  const found: Found[] = [];
  // A reader gives a hundred at a time, and nothing when it is done.
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject));
    if (!some.length) return found;
    for (const entry of some) {
      if (entry.isDirectory) found.push(...(await inside(entry as FileSystemDirectoryEntry)));
      else {
        const file = await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject));
        found.push({ path: entry.fullPath, file, inFolder: true });
      }
    }
  }
}

function sorted(found: Found[]): Dropped {
  const leftOut = (one: Found) => one.inFolder && (one.file.name.startsWith('.') || NO_SOUND.test(one.file.type));
  const ordered = [...found].sort((one, other) => byName.compare(one.path, other.path));
  return {
    files: ordered.filter((one) => !leftOut(one)).map((one) => one.file),
    leftOut: ordered.filter((one) => leftOut(one) && !one.file.name.startsWith('.')).map((one) => one.file.name),
  };
}
