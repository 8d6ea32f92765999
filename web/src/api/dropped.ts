import { downloadZip } from 'client-zip'

const HIDDEN = /(^|\/)(\.|__MACOSX)/

/** The files of a drop; a folder becomes one .zip of what is in it, since its files belong together. */
export async function filesOf(drop: DataTransfer): Promise<File[]> {
  const entries = [...drop.items].map((item) => item.webkitGetAsEntry()).filter((e) => e != null)
  // Some programs drop files without entries.
  if (!entries.length) return [...drop.files]
  return Promise.all(entries.map((entry) => (entry.isDirectory ? zipped(entry) : fileOf(entry))))
}

async function zipped(folder: FileSystemEntry): Promise<File> {
  const files = (await within(folder)).filter((f) => !HIDDEN.test(f.name))
  const archive = await downloadZip(files).blob()
  return new File([archive], `${folder.name}.zip`)
}

async function within(entry: FileSystemEntry): Promise<{ name: string; input: File }[]> {
  if (!entry.isDirectory) return [{ name: entry.fullPath.replace(/^\//, ''), input: await fileOf(entry) }]
  const reader = (entry as FileSystemDirectoryEntry).createReader()
  const found: { name: string; input: File }[] = []
  // A reader gives a hundred entries at a time, and none when it is through.
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((resolve, reject) =>
      reader.readEntries(resolve, reject),
    )
    if (!some.length) return found
    for (const inner of some) found.push(...(await within(inner)))
  }
}

function fileOf(entry: FileSystemEntry): Promise<File> {
  return new Promise((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject))
}
