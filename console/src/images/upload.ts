import { answer, api, type FileEntry, type Upload } from "../api/client";

/** Bytes that are sent at once: what is lost when a connection breaks. */
const PIECE = 16 * 1024 * 1024;
/** How often in a row a piece is tried again. */
const TRIES = 5;
const PAUSE_MS = 1000;

/** A file and the path it is to have. */
export interface Chosen {
  path: string;
  file: File;
}

/**
 * Sends a file piece by piece. After a break, or in another window, it goes on where it stopped: the service knows how
 * much of a file of that name, size and time it has.
 */
export async function send(chosen: Chosen, progress: (bytes: number) => void, stop: AbortSignal): Promise<FileEntry> {
  const { file, path } = chosen;
  const body = { name: path, size: file.size, modified: String(file.lastModified) };
  let upload: Upload = answer(await api.POST("/api/v1/uploads", { body }));
  let tries = 0;
  for (;;) {
    progress(upload.offset);
    if (upload.file) {
      return upload.file;
    }
    stop.throwIfAborted();
    try {
      upload = await sendPiece(upload, file, stop);
      tries = 0;
    } catch (error) {
      tries += 1;
      if (stop.aborted || tries > TRIES) {
        throw error;
      }
      await new Promise((resolve) => setTimeout(resolve, PAUSE_MS * tries));
      upload = answer(await api.GET("/api/v1/uploads/{id}", { params: { path: { id: upload.id } } }));
    }
  }
}

async function sendPiece(upload: Upload, file: File, signal: AbortSignal): Promise<Upload> {
  const response = await fetch(`/api/v1/uploads/${upload.id}`, {
    method: "PATCH",
    headers: { "upload-offset": String(upload.offset), "lastmile-user": "console" },
    body: file.slice(upload.offset, upload.offset + PIECE),
    signal,
  });
  const said: unknown = await response.json();
  return response.ok ? (said as Upload) : answer<Upload>({ error: said });
}
