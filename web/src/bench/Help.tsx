import { Box, Dialog, DialogContent, DialogTitle, Typography } from "@mui/material";

const STEPS: [string, string][] = [
  ["See what is wrong", "The slip at the right lists findings; spikes mark them on the strands. N goes to the next one and tries its repair."],
  ["Try before you apply", "Whatever you try is drawn as a tinted ghost, with its proof beside it. Enter applies it, Esc drops it; Ctrl+Z takes it back for ever."],
  ["Hand a limb over", "Drag along its strand: from where the drag starts, the other system takes the pose and the speed. Nothing moves at the change."],
  ["Pose", "Drag a control, a bend guide or a joint's band. Letting go keys what you dragged, in the system that drives; the part card says so and lets you choose."],
  ["Work on keys", "Tick channels in the part card to lay them out as curves. Drag keys and slopes; a double click puts a key. The dashed line is what was there before."],
  ["Keep and reuse", "Ctrl+C keeps the pose in hand or the selected stretch; Ctrl+V or the locker puts it at another frame, on another take, body or side."],
];

const KEYS: [string, string][] = [
  ["Space", "play, stop"],
  ["← →", "one frame back, on"],
  ["Shift ← →", "to the key before, after, of the part in hand"],
  ["Home End", "first, last frame"],
  ["↑ ↓", "part above, below"],
  ["N", "next finding, its repair tried"],
  ["Shift R", "try the repairs of all findings"],
  ["H", "hand over the part in hand from this frame on"],
  ["[ ]", "stretch begins, ends at this frame"],
  ["Enter", "apply what is tried"],
  ["Esc", "drop what is tried, or a drag"],
  ["Ctrl+Z", "undo; with Shift redo"],
  ["K", "key the whole part, or a pose that waits"],
  ["Alt arrows", "move the part in hand 10 mm in the picture; with Shift turn it 5°"],
  ["Ctrl+C, Ctrl+V", "keep this pose or stretch, paste the newest"],
  ["L, V", "locker of clips, list of revisions"],
  ["W", "curves in place of strands, and back"],
  [".", "in curves: pick the keys at this frame"],
  ["Ctrl+C, Ctrl+V", "in curves: copy the picked keys, put them from this frame on"],
  ["Alt arrows", "in curves: move the picked keys in time or value"],
  ["Delete", "delete the picked keys, or the plank in hand"],
  ["D", "all drivers stepped"],
  ["B C J O", "body, controls, joints, the part alone"],
  ["G Y S P", "ghosts, trails, slip strokes, pin this frame"],
  ["Shift Y", "the trail of the part in hand stays, or goes"],
  ["T", "dragging turns instead of moves"],
  ["1 2 3 4 5", "three-quarter, front, side, top, floor-level view"],
  ["?", "this list"],
];

/** First steps, and the list of shortcuts. */
export function Help({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog open={open} onClose={onClose} maxWidth="md" fullWidth>
      <DialogTitle>First steps and keys</DialogTitle>
      <DialogContent>
        <Box component="ol" sx={{ columns: 2, columnGap: 4, pl: 2.5, mt: 0, mb: 2 }}>
          {STEPS.map(([what, how]) => (
            <Typography component="li" key={what} sx={{ fontSize: 13.5, mb: 1, breakInside: "avoid" }}>
              <b>{what}.</b> {how}
            </Typography>
          ))}
        </Box>
        <Box component="dl" sx={{ columns: 2, columnGap: 4, m: 0, fontSize: 13.5 }}>
          {KEYS.map(([key, what]) => (
            <Box key={key + what} sx={{ display: "flex", py: 0.25, breakInside: "avoid" }}>
              <Box component="dt" sx={{ width: 118, flexShrink: 0, fontWeight: 700 }}>
                {key}
              </Box>
              <Box component="dd" sx={{ m: 0 }}>
                {what}
              </Box>
            </Box>
          ))}
        </Box>
      </DialogContent>
    </Dialog>
  );
}
