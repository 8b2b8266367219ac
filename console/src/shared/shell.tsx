import {
  AimOutlined,
  ApiOutlined,
  BellOutlined,
  BranchesOutlined,
  BulbOutlined,
  ClockCircleOutlined,
  CommentOutlined,
  CloudUploadOutlined,
  DatabaseOutlined,
  EyeOutlined,
  FileProtectOutlined,
  HistoryOutlined,
  HomeOutlined,
  LineChartOutlined,
  LogoutOutlined,
  SettingOutlined,
  TableOutlined,
  TeamOutlined,
} from "@ant-design/icons";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Badge, Button, Flex, Layout, Menu, Modal, Typography } from "antd";
import { useEffect, useState } from "react";
import { Link, Navigate, Outlet, useLocation, useNavigate } from "react-router";
import { actFor, api, ApiProblem, take, whenSignedOut, type Person, type SignedOut } from "../api/client";
import { useDark } from "./dark";
import { signedIn, useSession } from "./session";
import { SignInForm } from "./sign-in-form";
import { Failed, Loading } from "./states";
import { keys } from "../api/keys";

const pages = [
  { key: "/", icon: <HomeOutlined aria-hidden />, label: <Link to="/">Home</Link> },
  { key: "/findings", icon: <AimOutlined aria-hidden />, label: <Link to="/findings">Findings</Link> },
  { key: "/standing", icon: <LineChartOutlined aria-hidden />, label: <Link to="/standing">Standing</Link> },
  { key: "/endpoints", icon: <ApiOutlined aria-hidden />, label: <Link to="/endpoints">Endpoints</Link> },
  { key: "/entities", icon: <DatabaseOutlined aria-hidden />, label: <Link to="/entities">Entities</Link> },
  { key: "/exposure", icon: <TableOutlined aria-hidden />, label: <Link to="/exposure">Exposure map</Link> },
  { key: "/contracts", icon: <FileProtectOutlined aria-hidden />, label: <Link to="/contracts">Contracts</Link> },
  { key: "/captures", icon: <CloudUploadOutlined aria-hidden />, label: <Link to="/captures">Captures</Link> },
  { key: "/watches", icon: <ClockCircleOutlined aria-hidden />, label: <Link to="/watches">Watches</Link> },
  { key: "/live", icon: <EyeOutlined aria-hidden />, label: <Link to="/live">Live</Link> },
  { key: "/results", icon: <BranchesOutlined aria-hidden />, label: <Link to="/results">Pipelines</Link> },
  { key: "/requests", icon: <CommentOutlined aria-hidden />, label: <Link to="/requests">Requests</Link> },
  { key: "/trail", icon: <HistoryOutlined aria-hidden />, label: <Link to="/trail">Trail</Link> },
  { key: "/people", icon: <TeamOutlined aria-hidden />, label: <Link to="/people">People</Link> },
  { key: "/settings", icon: <SettingOutlined aria-hidden />, label: <Link to="/settings">Settings</Link> },
];

/** The frame around every page once somebody is signed in. */
export function Shell() {
  const session = useSession();
  const place = useLocation();
  const { dark, toggle } = useDark();
  const ended = useEndedSession(session.data);
  if (session.isPending) return <Loading what="Inkret" />;
  if (session.error && !session.data) {
    if (session.error instanceof ApiProblem && session.error.status === 401) {
      return <Navigate to={`/sign-in?next=${encodeURIComponent(place.pathname + place.search)}`} replace />;
    }
    return <Failed error={session.error} again={() => session.refetch()} />;
  }
  const path = place.pathname.replace(/^\/kinds/, "/findings").replace(/^\/matrix/, "/captures");
  const here = pages.map((p) => p.key).find((k) => k !== "/" && path.startsWith(k)) ?? (path === "/" ? "/" : "");
  return (
    <Layout className="shell">
      <a className="skip" href="#content">
        Skip to content
      </a>
      <Layout.Sider width={176} breakpoint="md" collapsedWidth={48} className="rail">
        <Link to="/" className="brand" aria-label="Inkret, home">
          <img src="/inkret.svg" alt="" width={22} height={22} /> <span>Inkret</span>
        </Link>
        <nav aria-label="Pages">
          <Menu theme="dark" mode="inline" selectedKeys={[here]} items={pages} />
        </nav>
        <Flex vertical className="rail-foot">
          <Link to="/you" className="rail-text" title={`${session.data.email}: password, second factor, sessions`}>
            {session.data.name}
          </Link>
          <Typography.Text className="rail-text rail-faint">{session.data.role}</Typography.Text>
          <Flex gap={4}>
            <Bell />
            <Button
              type="text"
              size="small"
              className="rail-text"
              icon={<BulbOutlined />}
              onClick={toggle}
              aria-label={dark ? "Light colours" : "Dark colours"}
            />
            <SignOut />
          </Flex>
        </Flex>
      </Layout.Sider>
      <Layout.Content id="content" tabIndex={-1} className="content">
        <Outlet />
      </Layout.Content>
      {ended}
    </Layout>
  );
}

/** A place to sign in again over the page as it is, when the session has ended: nothing typed there is lost, and what was sent is sent once more. */
function useEndedSession(person: Person | undefined) {
  const [waiting, setWaiting] = useState<((signedIn: boolean) => void)[]>([]);
  const [why, setWhy] = useState<SignedOut>("ended");
  const queries = useQueryClient();
  const known = person !== undefined;
  useEffect(() => {
    if (!known) return;
    whenSignedOut(
      (why) => {
        setWhy(why);
        return new Promise((settle) => setWaiting((others) => [...others, settle]));
      },
      () => setWaiting((all) => (all.forEach((go) => go(true)), [])),
    );
    return () => whenSignedOut(undefined);
  }, [known]);
  if (!person || waiting.length === 0) return null;
  const settle = (again: boolean) => {
    setWaiting([]);
    waiting.forEach((go) => go(again));
  };
  return (
    <Modal
      open
      title={why === "ended" ? "Your session has ended" : "Somebody else is signed in"}
      footer={
        <Button
          onClick={() => {
            whenSignedOut(undefined);
            settle(false);
            if (why === "other-person") {
              window.location.assign("/"); // the other person's home
              return;
            }
            queries.clear();
          }}
        >
          Leave, and lose what is not saved
        </Button>
      }
      closable={false}
      mask={{ closable: false }}
      keyboard={false}
    >
      <Typography.Paragraph>
        {why === "other-person" &&
          `Another tab of this browser was used to sign in as somebody else. This page belongs to ${person.name || person.email}. `}
        Sign in again, and go on where you were: what you have written is still there.
      </Typography.Paragraph>
      <SignInForm
        email={person.email}
        done={(again) => {
          if (again.id !== person.id) {
            window.location.assign("/"); // somebody else goes on from the beginning
            return;
          }
          signedIn(queries, again);
          settle(true);
        }}
      />
    </Modal>
  );
}

/** The number of unread notices. */
function Bell() {
  const list = useQuery({
    queryKey: keys.unread(),
    queryFn: () => take(api.GET("/api/v1/notices", { params: { query: { unread: true, size: 1 } } })),
    refetchInterval: 60_000,
  });
  const unread = list.data?.unread ?? 0;
  return (
    <Link to="/notices" aria-label={unread > 0 ? `Notices, ${unread} not read` : "Notices"}>
      <Badge count={unread} size="small" overflowCount={99} offset={[-4, 4]}>
        <Button type="text" size="small" className="rail-text" icon={<BellOutlined />} tabIndex={-1} aria-hidden />
      </Badge>
    </Link>
  );
}

function SignOut() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const out = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/session")),
    onSettled: () => {
      whenSignedOut(undefined);
      actFor(undefined, true);
      queries.clear();
      navigate("/sign-in");
    },
  });
  return (
    <Button
      type="text"
      size="small"
      className="rail-text"
      icon={<LogoutOutlined />}
      loading={out.isPending}
      onClick={() => out.mutate()}
      aria-label="Sign out"
    />
  );
}

/** A page's heading, which also names the browser's tab. */
export function Heading({
  children,
  title,
  aside,
}: {
  children: React.ReactNode;
  title: string;
  aside?: React.ReactNode;
}) {
  useEffect(() => {
    document.title = `${title} · Inkret`;
  }, [title]);
  return (
    <Flex justify="space-between" align="start" gap={16} wrap className="heading">
      <Typography.Title level={1}>{children}</Typography.Title>
      {aside}
    </Flex>
  );
}
