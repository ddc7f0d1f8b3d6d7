import { lazy, Suspense, useState, type ComponentType } from "react";

/** A part of the page that is fetched by itself, with words in its place meanwhile; `come` is settled once it is here. */
export function later<P extends object>(fetch: () => Promise<{ default: ComponentType<P> }>, words: string) {
  let here: ComponentType<P> | undefined;
  let asked: Promise<{ default: ComponentType<P> }> | undefined;
  const come = () => (asked ??= fetch().then((parts) => ((here = parts.default), parts)));
  const Lazy = lazy(come) as ComponentType<P>;

  function Later(props: P) {
    // Of what is here already nothing is put in the place: React would keep that for a third of a second. Nor is it exchanged later.
    const [Now] = useState(() => here);
    return Now ? (
      <Now {...props} />
    ) : (
      <Suspense fallback={<p style={{ padding: 24 }}>{words}</p>}>
        <Lazy {...props} />
      </Suspense>
    );
  }
  return Object.assign(Later, { come });
}
