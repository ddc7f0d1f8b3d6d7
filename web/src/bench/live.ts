import type { DragAsked } from "../shared/api";
import { useNotice } from "../shared/notice";
import { useBench } from "./state";

/** Live posing over a WebSocket: at most one question under way, and only the newest drag counts. */
class Live {
  private socket: WebSocket | null = null;
  private take = 0;
  private seq = 0;
  private busy = false;
  private next: DragAsked | null = null;
  private wanted = 0;

  drag(take: number, asked: DragAsked) {
    this.next = asked;
    if (!this.socket || this.take !== take || this.socket.readyState > WebSocket.OPEN) this.open(take);
    this.send();
  }

  /** Answers that come after this are of a drag that has ended. */
  end() {
    this.next = null;
    this.wanted = this.seq + 1;
  }

  private open(take: number) {
    this.socket?.close();
    this.take = take;
    this.busy = false;
    const socket = new WebSocket(`${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/api/takes/${take}/live`);
    socket.binaryType = "arraybuffer";
    socket.onopen = () => this.send();
    socket.onmessage = (event: MessageEvent<ArrayBuffer | string>) => {
      this.busy = false;
      if (typeof event.data === "string") {
        useNotice.getState().warn((JSON.parse(event.data) as { message: string }).message);
      } else {
        const seq = new DataView(event.data).getUint32(0, true);
        if (seq >= this.wanted) useBench.getState().set({ live: new Float32Array(event.data.slice(4)) });
      }
      this.send();
    };
    socket.onclose = () => {
      if (this.socket === socket) this.socket = null;
    };
    this.socket = socket;
  }

  private send() {
    if (this.busy || !this.next || this.socket?.readyState !== WebSocket.OPEN) return;
    this.busy = true;
    this.seq += 1;
    this.socket.send(JSON.stringify({ ...this.next, seq: this.seq }));
    this.next = null;
  }
}

export const live = new Live();
