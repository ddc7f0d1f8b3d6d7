import { useEffect } from "react";
import { useActions, useOperations } from "../actions";
import { useBench } from "../state";
import { commandOf } from "./commands";

/** Where keys are typed or belong to a dialog: no commands there. */
const TYPED = "input:not([type=checkbox]):not([type=range]), textarea, [role=dialog]:not([data-testid=offer]), [role=listbox], [role=menu]";

/** Space ticks what can be ticked and opens what opens; everywhere else it plays. */
const SPACE = "[type=checkbox], [role=combobox]";

/** Every command of the bench by keyboard. */
export function useShortcuts() {
  const actions = useActions();
  const operations = useOperations();
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      const { info } = useBench.getState();
      const command = commandOf(event);
      if (!info || !command || target.closest(TYPED)) return;
      // Enter belongs to a button that has the focus; a slider has its own arrows.
      if (event.key === "Enter" && target.closest("button, a, [role=combobox]")) return;
      if (event.key === " " && target.closest(SPACE)) return;
      if (event.key.startsWith("Arrow") && target.closest("[type=range], [role=combobox], [role=separator]")) return;
      event.preventDefault();
      void command.run({ info, actions, operations });
    };
    // Space would press a focused button when it is let go.
    const onUp = (event: KeyboardEvent) => {
      if (event.key === " " && !(event.target as HTMLElement).closest(`${TYPED}, ${SPACE}`)) event.preventDefault();
    };
    window.addEventListener("keydown", onKey);
    window.addEventListener("keyup", onUp, true);
    return () => {
      window.removeEventListener("keydown", onKey);
      window.removeEventListener("keyup", onUp, true);
    };
  }, [actions, operations]);
}
