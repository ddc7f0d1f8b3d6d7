import type { Finding } from "../shared/api";
import { useBench } from "./state";

/** Puts a finding before the animator: its frame, its part, its stretch. */
export function goToFinding(finding: Finding) {
  const { info, toFrame, set } = useBench.getState();
  const strand = info?.strands.find((s) => s.member === finding.member && s.part === finding.part);
  toFrame(finding.frame);
  set({ focus: strand ? { member: strand.member, part: strand.part } : null });
}

/** Starts trying the repair of some findings; none named means all. */
export function tryRepair(findings: Finding[]) {
  const first = findings[0];
  if (!first) return;
  goToFinding(first);
  const parts = findings.map((f) => ({ member: f.member, part: f.part }));
  const span = { first: Math.min(...findings.map((f) => f.frame)), last: Math.max(...findings.map((f) => f.last)) };
  useBench.getState().set({ stretch: null, trial: null, choices: {}, wish: { operation: "repair", parts, ...span, findings: findings.map((f) => f.key) } });
}
