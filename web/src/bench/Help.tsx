import { Box, Dialog, DialogContent, DialogTitle, Typography } from "@mui/material";

const KEYS: [string, string][] = [
  ["Space", "play, stop"],
  ["← →", "one frame back, on"],
  ["Shift ← →", "to the key before, after, of the part in hand"],
  ["Home End", "first, last frame"],
  ["N", "next finding, with its stretch selected"],
  ["H", "hand over the part in hand from this frame on"],
  ["Enter", "apply what is tried"],
  ["Esc", "drop what is tried, or a drag"],
  ["Ctrl+Z", "undo"],
  ["Ctrl+Shift+Z", "redo"],
  ["↑ ↓", "part above, below"],
  ["C J G T", "controls, joints, before/after ghosts, turn instead of move"],
  ["1 2 3 4 5", "three-quarter, front, side, top, floor-level view"],
  ["?", "this list"],
];

/** The list of shortcuts. */
export function Help({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog open={open} onClose={onClose} maxWidth="sm" fullWidth>
      <DialogTitle>Keys and first steps</DialogTitle>
      <DialogContent>
        <Typography sx={{ mb: 2 }}>
          Drag along a limb's strand to select frames. What can be done there is tried at once: the tinted ghost is the result, the slip beside it the proof. Enter applies it,
          Esc drops it. Drag a control, a bend guide or a joint's band in the view to pose; letting go keys what you dragged, in the system that drives.
        </Typography>
        <Box component="table" sx={{ "& td": { py: 0.5, pr: 3 } }}>
          <tbody>
            {KEYS.map(([key, what]) => (
              <tr key={key}>
                <td>
                  <b>{key}</b>
                </td>
                <td>{what}</td>
              </tr>
            ))}
          </tbody>
        </Box>
      </DialogContent>
    </Dialog>
  );
}
