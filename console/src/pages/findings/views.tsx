import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Checkbox, Flex, Input, Popover, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type SavedView } from "../../api/client";
import { Failed, useFailed } from "../../shared/states";
import { keys } from "../../api/keys";

/** Saved views, own and shared; the current list can be saved. */
export function Views({ query }: { query: string }) {
  const [open, setOpen] = useState(false);
  return (
    <Popover
      trigger="click"
      open={open}
      onOpenChange={setOpen}
      placement="bottomRight"
      title="Views"
      content={<Kept query={query} close={() => setOpen(false)} />}
    >
      <Button aria-expanded={open}>Views</Button>
    </Popover>
  );
}

function Kept({ query, close }: { query: string; close: () => void }) {
  const queries = useQueryClient();
  const failed = useFailed();
  const { message } = App.useApp();
  const [name, setName] = useState("");
  const [shared, setShared] = useState(false);
  const list = useQuery({ queryKey: keys.views(), queryFn: () => take(api.GET("/api/v1/views")) });
  const after = (said: string) => () => {
    void queries.invalidateQueries({ queryKey: keys.views() });
    void message.success(said);
  };
  const keep = useMutation({
    mutationFn: () => take(api.POST("/api/v1/views", { body: { name, query, shared } })),
    onSuccess: () => {
      after(`Kept as ${name}`)();
      setName("");
    },
    onError: failed,
  });
  const follow = useMutation({
    mutationFn: (v: SavedView) => {
      const params = { params: { path: { view_id: v.id } } };
      return v.follows
        ? take(api.DELETE("/api/v1/views/{view_id}/follow", params))
        : take(api.PUT("/api/v1/views/{view_id}/follow", params));
    },
    onSuccess: (_, v) => after(v.follows ? "You are told no longer" : `You are told of what comes into ${v.name}`)(),
    onError: failed,
  });
  const drop = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/v1/views/{view_id}", { params: { path: { view_id: id } } })),
    onSuccess: after("Dropped"),
    onError: failed,
  });
  if (list.error) return <Failed error={list.error} again={() => list.refetch()} />;
  return (
    <Flex vertical gap={8} className="wide-400">
      {list.data?.length === 0 && (
        <Typography.Text type="secondary">None yet. Narrow the list, and keep it here.</Typography.Text>
      )}
      {list.data?.map((v) => (
        <Flex key={v.id} justify="space-between" align="center" gap={8}>
          <Link to={`/findings?${v.query}`} onClick={close}>
            {v.name}
          </Link>
          <Typography.Text type="secondary">{v.own ? (v.shared ? "shared" : "") : `of ${v.author}`}</Typography.Text>
          <Button
            size="small"
            type="text"
            aria-pressed={v.follows}
            loading={follow.isPending && follow.variables === v}
            onClick={() => follow.mutate(v)}
            title={v.follows ? "You are told of what comes into it" : "Be told of what comes into it"}
          >
            {v.follows ? "✓ Following" : "Follow"}
          </Button>
          {v.own && (
            <Button
              size="small"
              type="text"
              aria-label={`Drop the view ${v.name}`}
              loading={drop.isPending}
              onClick={() => drop.mutate(v.id)}
            >
              ✕
            </Button>
          )}
        </Flex>
      ))}
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (name.trim()) keep.mutate();
        }}
      >
        <Flex vertical gap={6}>
          <Input
            aria-label="The view's name"
            placeholder="Keep this list as …"
            value={name}
            maxLength={100}
            onChange={(e) => setName(e.target.value)}
          />
          <Flex justify="space-between" align="center">
            <Checkbox checked={shared} onChange={(e) => setShared(e.target.checked)}>
              others see it too
            </Checkbox>
            <Button htmlType="submit" size="small" disabled={!name.trim()} loading={keep.isPending}>
              Keep
            </Button>
          </Flex>
        </Flex>
      </form>
    </Flex>
  );
}
