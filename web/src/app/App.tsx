import { useQuery } from "@tanstack/react-query";
import { Suspense } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { sessionQuery } from "../api/queries";
import { lazily } from "../views/lazily";
import { VIEWS } from "../views/manifest";
import { ErrorBoundary } from "./ErrorBoundary";
import { Shell } from "./Shell";
import { SignIn } from "./SignIn";
import { useIsTile } from "./useIsTile";

const Answer = lazily(() => import("./Answer"), "Answer");
const Tile = lazily(() => import("../views/now/Tile"), "Tile");
const Wall = lazily(() => import("../views/now/Wall"), "Wall");

/** The sign-in, or the application behind it; answers to messages need neither. */
export function App() {
  const { data: session, error } = useQuery(sessionQuery);
  const { pathname } = useLocation();
  const isTile = useIsTile();
  if (pathname === "/answer")
    return (
      <Suspense fallback={null}>
        <Answer />
      </Suspense>
    );
  if (!session)
    return error ? (
      <p role="alert" className="p-8">
        {error.message} Trying again every two seconds.
      </p>
    ) : null;
  if (!session.user) return <SignIn firstRun={session.first_run} />;
  if (isTile || pathname === "/wall")
    return (
      <ErrorBoundary place={pathname}>
        <Suspense fallback={null}>{isTile ? <Tile /> : <Wall />}</Suspense>
      </ErrorBoundary>
    );
  return (
    <Shell user={session.user}>
      <ErrorBoundary place={pathname}>
        <Suspense fallback={<p className="p-4 text-ink2">Loading …</p>}>
          <Routes>
            {VIEWS.flatMap(({ paths, View }) =>
              paths.map((path) => <Route key={path} path={path} element={<View />} />),
            )}
            <Route path="*" element={<Navigate to="/" replace />} />
          </Routes>
        </Suspense>
      </ErrorBoundary>
    </Shell>
  );
}
