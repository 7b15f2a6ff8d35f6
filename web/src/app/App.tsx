import { useQuery } from "@tanstack/react-query";
import { Suspense } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { sessionQuery } from "../api/queries";
import { lazily } from "../views/lazily";
import { VIEWS } from "../views/manifest";
import { ErrorBoundary } from "./ErrorBoundary";
import { Shell } from "./Shell";
import { SignIn } from "./SignIn";

const Answer = lazily(() => import("./Answer"), "Answer");

/** The sign-in, or the application behind it; answers to messages need neither. */
export function App() {
  const { data: session, error } = useQuery(sessionQuery);
  const { pathname } = useLocation();
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
