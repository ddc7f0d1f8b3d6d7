import { Box, Dialog, DialogContent, DialogTitle, Typography } from "@mui/material";
import { COMMANDS } from "./commands/commands";

const STEPS: [string, string][] = [
  ["See what is wrong", "The slip at the right lists findings; spikes mark them on the strands. N goes to the next one and tries its repair."],
  ["Try before you apply", "Whatever you try is drawn as a tinted ghost, with its proof beside it. Enter applies it, Esc drops it; Ctrl+Z takes it back for ever."],
  ["Hand a limb over", "Drag along its strand: from where the drag starts, the other system takes the pose and the speed. Nothing moves at the change. Shift adds other strands."],
  ["Pose", "Drag a control, a bend guide or a joint's band. Letting go keys what you dragged, in the system that drives; the part card says so and lets you choose."],
  ["Work on keys", "Tick channels in the part card to lay them out as curves. Drag keys and slopes; a double click puts a key. The dashed line is what was there before."],
  ["Keep and reuse", "Ctrl+C keeps the pose in hand or the selected stretch; Ctrl+V or the locker puts it at another frame, on another take, body or side."],
];

/** First steps, and the list of shortcuts. */
export function Help({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog open={open} onClose={onClose} maxWidth="lg" fullWidth>
      <DialogTitle>First steps and keys</DialogTitle>
      <DialogContent tabIndex={0}>
        <Box component="ol" sx={{ columns: 3, columnGap: 4, pl: 2.5, mt: 0, mb: 2 }}>
          {STEPS.map(([what, how]) => (
            <Typography component="li" key={what} sx={{ fontSize: 13.5, mb: 1, breakInside: "avoid" }}>
              <b>{what}.</b> {how}
            </Typography>
          ))}
        </Box>
        <Box sx={{ columns: 3, columnGap: 4, fontSize: 13 }}>
          {[...new Set(COMMANDS.map((c) => c.group))].map((group) => (
            <Box key={group} sx={{ breakInside: "avoid", mb: 1 }}>
              <Typography component="h3" sx={{ fontSize: 13, fontWeight: 700, color: "text.secondary" }}>
                {group}
              </Typography>
              <Box component="dl" sx={{ m: 0 }}>
                {COMMANDS.filter((c) => c.group === group && c.words).map((c) => (
                  <Box key={c.id} sx={{ display: "flex", py: 0.15 }}>
                    <Box component="dt" sx={{ width: 112, flexShrink: 0, fontWeight: 700 }}>
                      {c.shown || c.keys[0]!.replace("+", " ")}
                    </Box>
                    <Box component="dd" sx={{ m: 0 }}>
                      {c.words}
                    </Box>
                  </Box>
                ))}
              </Box>
            </Box>
          ))}
        </Box>
      </DialogContent>
    </Dialog>
  );
}
