import { bytes } from "../shared/early";

export const CHUNK = 128;

/** Where a chunk of poses is to be had. */
export const posesAt = (take: number, first: number, last: number, kind: string, id: string | number) => `/takes/${take}/poses?first=${first}&last=${last}&${kind}=${id}`;

/** Bytes of poses that are kept: those looked at last. */
const MOST = 64_000_000;

/**
 * Poses fetched ahead, by source (a revision or a trial) and chunk of frames, so that playback never waits for
 * the network. One frame is a row of (position, rotation) of all joints, then of the handles that stand elsewhere.
 */
export class PoseBank {
  private chunks = new Map<string, Float32Array>();
  private bytes = 0;
  private newest = "";
  private waiting = new Map<string, Promise<void>>();
  private listeners = new Set<() => void>();

  constructor(
    readonly take: number,
    readonly first: number,
    readonly last: number,
  ) {}

  /** The pose at a whole frame, or null while it is on its way. */
  at(source: string, frame: number): Float32Array | null {
    const f = Math.min(Math.max(Math.round(frame), this.first), this.last) - this.first;
    const chunk = Math.floor(f / CHUNK);
    const key = `${source}:${chunk}`;
    const data = this.chunks.get(key);
    if (data && key !== this.newest) {
      // Those looked at last come last, and go last.
      this.chunks.delete(key);
      this.chunks.set((this.newest = key), data);
    }
    if (!data) {
      void this.fetch(source, chunk);
      return null;
    }
    // A revision or a trial may have more rows at the end than another: anchors come and go.
    const size = data.length / (Math.min(CHUNK, this.last - this.first + 1 - chunk * CHUNK) || 1);
    const start = (f - chunk * CHUNK) * size;
    return data.subarray(start, start + size);
  }

  /** Fetches the frames around and after this one. */
  ahead(source: string, frame: number) {
    const chunk = Math.floor((frame - this.first) / CHUNK);
    const most = Math.floor((this.last - this.first) / CHUNK);
    for (let c = Math.max(chunk - 1, 0); c <= Math.min(chunk + 6, most); c++) void this.fetch(source, c);
    if (most >= 7) void this.fetch(source, 0);
  }

  onArrival(listener: () => void) {
    this.listeners.add(listener);
    return () => {
      this.listeners.delete(listener);
    };
  }

  private fetch(source: string, chunk: number): Promise<void> {
    const key = `${source}:${chunk}`;
    if (this.chunks.has(key)) return Promise.resolve();
    const waiting = this.waiting.get(key);
    if (waiting) return waiting;
    const first = this.first + chunk * CHUNK;
    const last = Math.min(first + CHUNK - 1, this.last);
    // The name of a trial may hold hyphens of its own.
    const kind = source.slice(0, source.indexOf("-"));
    const id = source.slice(source.indexOf("-") + 1);
    const promise = bytes(posesAt(this.take, first, last, kind, id))
      .then((raw) => {
        const data = new Float32Array(raw);
        this.chunks.set(key, data);
        this.bytes += data.byteLength;
        for (const [old, other] of this.chunks) {
          if (this.bytes <= MOST || old === key) break;
          this.chunks.delete(old);
          this.bytes -= other.byteLength;
        }
        this.listeners.forEach((listener) => listener());
      })
      .catch(() => {
        // Asked for again when it is next needed; other requests tell the user that the service is away.
      })
      .finally(() => this.waiting.delete(key));
    this.waiting.set(key, promise);
    return promise;
  }
}
