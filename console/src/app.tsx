import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App as AntdApp, ConfigProvider } from "antd";
import { lazy, Suspense, useEffect } from "react";
import { createBrowserRouter, RouterProvider } from "react-router";
import { ApiProblem } from "./api/client";
import { useDark } from "./shared/dark";
import { Shell } from "./shared/shell";
import { Loading, NotFound } from "./shared/states";
import { themeFor } from "./theme";

const nonce = document.querySelector<HTMLMetaElement>('meta[name="inkret-nonce"]')?.content;

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      // A problem that the service states will not go away by asking again.
      retry: (count, error) => !(error instanceof ApiProblem && error.status < 500) && count < 2,
      staleTime: 5_000,
    },
  },
});

const page = (load: () => Promise<{ default: React.ComponentType }>) => {
  const Page = lazy(load);
  return (
    <Suspense fallback={<Loading what="the page" />}>
      <Page />
    </Suspense>
  );
};

const router = createBrowserRouter([
  { path: "/sign-in", element: page(() => import("./pages/sign-in/sign-in")) },
  { path: "/set-up", element: page(() => import("./pages/set-up/set-up")) },
  {
    path: "/",
    element: <Shell />,
    children: [
      { index: true, element: page(() => import("./pages/home/home")) },
      { path: "findings", element: page(() => import("./pages/findings/findings")) },
      { path: "findings/:id", element: page(() => import("./pages/finding/finding")) },
      { path: "standing", element: page(() => import("./pages/standing/standing")) },
      { path: "results", element: page(() => import("./pages/results/results")) },
      { path: "results/:id", element: page(() => import("./pages/results/result")) },
      { path: "requests", element: page(() => import("./pages/requests/requests")) },
      { path: "requests/:id", element: page(() => import("./pages/requests/request")) },
      { path: "notices", element: page(() => import("./pages/notices/notices")) },
      { path: "endpoints", element: page(() => import("./pages/endpoints/endpoints")) },
      { path: "endpoints/:id", element: page(() => import("./pages/endpoint/endpoint")) },
      { path: "endpoints/:id/edit", element: page(() => import("./pages/editor/editor")) },
      { path: "entities", element: page(() => import("./pages/entities/entities")) },
      { path: "entities/:service/:name", element: page(() => import("./pages/entity/entity")) },
      { path: "exposure", element: page(() => import("./pages/exposure/exposure")) },
      { path: "contracts", element: page(() => import("./pages/contracts/contracts")) },
      { path: "contracts/:service/edit", element: page(() => import("./pages/editor/editor")) },
      { path: "contracts/:service/revisions/:number", element: page(() => import("./pages/revision/revision")) },
      { path: "captures", element: page(() => import("./pages/captures/captures")) },
      { path: "captures/compare", element: page(() => import("./pages/compare/compare")) },
      { path: "captures/:id", element: page(() => import("./pages/capture/capture")) },
      { path: "matrix", element: page(() => import("./pages/matrix/matrix")) },
      { path: "matrix/:batch", element: page(() => import("./pages/matrix/matrix")) },
      { path: "watches", element: page(() => import("./pages/watches/watches")) },
      { path: "watches/:id", element: page(() => import("./pages/watches/watch")) },
      { path: "kinds", element: page(() => import("./pages/kind/kind")) },
      { path: "kinds/:kind", element: page(() => import("./pages/kind/kind")) },
      { path: "live", element: page(() => import("./pages/live/live")) },
      { path: "people", element: page(() => import("./pages/people/people")) },
      { path: "you", element: page(() => import("./pages/you/you")) },
      { path: "trail", element: page(() => import("./pages/trail/trail")) },
      { path: "settings", element: page(() => import("./pages/settings/settings")) },
      { path: "new", element: page(() => import("./pages/begin/begin")) },
      { path: "new/:id", element: page(() => import("./pages/begin/draft")) },
      { path: "*", element: <NotFound what="page" /> },
    ],
  },
]);

export function App() {
  const { dark } = useDark();
  useEffect(() => {
    document.documentElement.dataset.theme = dark ? "dark" : "light";
  }, [dark]);
  return (
    <ConfigProvider theme={themeFor(dark)} csp={nonce ? { nonce } : undefined}>
      <AntdApp message={{ maxCount: 3 }}>
        <QueryClientProvider client={queries}>
          <RouterProvider router={router} />
        </QueryClientProvider>
      </AntdApp>
    </ConfigProvider>
  );
}
