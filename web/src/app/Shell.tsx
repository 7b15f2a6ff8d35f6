import { useIsFetching } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { useNavigate } from "react-router";
import { useLive } from "../api/live";
import { VIEWS } from "../views/manifest";
import { Announcements } from "./Announcements";
import { Footer } from "./Footer";
import { JumpBox } from "./JumpBox";
import { KeysHelp } from "./KeysHelp";
import { useKeys } from "./keys";
import { Mark } from "./Mark";
import { Places } from "./Places";
import { useScreenTime, useSetScreenTime, useTimeSearch } from "./screenTime";
import { TimeStrip } from "./TimeStrip";
import { UserMenu } from "./UserMenu";
import { useWorst } from "./useWorst";

/** What every view has around it: places, jump box, time strip, and the health of Lumtar itself. */
export function Shell({ user, children }: { user: string; children: ReactNode }) {
  const time = useScreenTime();
  const { show, follow } = useSetScreenTime();
  const search = useTimeSearch();
  const navigate = useNavigate();
  const fetching = useIsFetching();
  const [help, setHelp] = useState(false);
  const [jump, setJump] = useState(false);
  useLive(time.following);
  useWorst();
  const [from, to] = [time.start.getTime(), time.end.getTime()];
  const move = (share: number) => {
    const by = Math.min((to - from) * share, Date.now() - to);
    show(new Date(from + by), new Date(to + by));
  };
  const widen = (by: number) => show(new Date(to - (to - from) * by), time.end);
  useKeys({
    n: () => follow(),
    "?": () => setHelp(true),
    "/": () => setJump(true),
    ArrowLeft: () => move(-0.25),
    ArrowRight: () => move(0.25),
    "+": () => widen(0.5),
    "-": () => widen(2),
    ...Object.fromEntries(VIEWS.map(({ key, paths: [path] }) => [key, () => navigate(path + search())])),
  });
  return (
    <div className="grid h-full grid-rows-[40px_58px_minmax(0,1fr)_26px]">
      <header className="flex items-center border-b border-ink px-4 max-md:px-2">
        <Mark />
        <Places />
        <JumpBox open={jump} onOpen={setJump} />
        <UserMenu user={user} onKeys={() => setHelp(true)} />
      </header>
      <TimeStrip time={time} />
      <main className="min-h-0 overflow-auto" aria-busy={fetching > 0}>
        {children}
      </main>
      <Footer />
      <Announcements />
      <KeysHelp open={help} onOpen={setHelp} />
    </div>
  );
}
