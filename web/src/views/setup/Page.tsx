import type { ReactNode } from "react";

type Props = { title: string; words: string; aside?: ReactNode; children: ReactNode };

/** A part of the set-up: what there is on the left, the form on the right. */
export function Page({ title, words, aside, children }: Props) {
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_370px] gap-8 max-lg:grid-cols-1">
      <div className="min-w-0">
        <h1 className="text-title font-semibold tracking-tight">{title}</h1>
        <p className="mb-2 max-w-[640px] text-ink2">{words}</p>
        {children}
      </div>
      <aside className="min-w-0">{aside}</aside>
    </div>
  );
}
