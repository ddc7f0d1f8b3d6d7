/** How many of the last pictures are looked back at. */
const BACK = 40;
/** So many tell that they would do with less. */
const ENOUGH = 12;
/** A picture takes too long where it keeps the screen busy for so much longer than the interval. */
const LATE = 1.35;
/** So many intervals of the screen from picture to picture at the most. */
const MOST = 15;

/**
 * When to draw the next picture of a take that plays. Where pictures cost more than the screen's own interval, drawing as
 * many as possible makes them come in fits and starts; so they are asked for at an even interval that the machine can keep:
 * wider where too many take longer, narrower where few of the last ones would at that.
 */
export class Pace {
  private due = -Infinity;
  private drawn: number | null = null;
  /** How long each of the last pictures kept the screen busy, in its intervals. */
  private busy: number[] = [];
  private least = 1;
  private first = 3;

  /** `every`: intervals of the screen from picture to picture to begin with. */
  constructor(
    public every = 1,
    private readonly refresh = 1000 / 60,
  ) {}

  /** The screen asks for a picture at this time, ms; returns whether one is due. `busy`: the last one is still being drawn. */
  asks(now: number, busy = false): boolean {
    if (busy) return false;
    if (this.drawn !== null) this.judge((now - this.drawn) / this.refresh);
    this.drawn = null;
    return now >= this.due - this.refresh / 2;
  }

  /** One was drawn. */
  draws(now: number): void {
    this.drawn = now;
    const step = this.every * this.refresh;
    this.due = now - this.due < step / 2 ? this.due + step : now + step;
  }

  private judge(busy: number): void {
    // The first ones cost more: the picture changes its size, panels their state.
    if (this.first > 0) {
      this.first -= 1;
      return;
    }
    this.busy.push(busy);
    if (this.busy.length > BACK) this.busy.shift();
    const sorted = [...this.busy].sort((a, b) => a - b);
    const most = sorted[Math.floor(0.9 * sorted.length)]!;
    if (sorted.filter((b) => b > LATE * this.every).length * 20 > BACK) {
      // What was too narrow once is not tried again while it plays.
      this.least = Math.min(this.every + 1, MOST);
      this.every = Math.min(Math.max(this.least, Math.ceil(sorted[Math.floor(sorted.length / 2)]! - 0.2)), MOST);
    } else if (sorted.length >= ENOUGH && this.every > this.least && most < this.every - 1) {
      this.every = Math.max(this.least, Math.ceil(most));
    } else return;
    this.busy = [];
  }
}
