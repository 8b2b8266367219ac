import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Card, Divider, Typography } from "antd";
import { useEffect } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, take } from "../../api/client";
import { signedIn } from "../../shared/session";
import { SignInForm } from "../../shared/sign-in-form";
import { keys } from "../../api/keys";

/** Where to go after signing in: a page of this console only. */
const inside = (next: string | null) => (next && next.startsWith("/") && !next.startsWith("//") ? next : "/");

/** Why the provider's answer let nobody in, by the word in the address. */
const refusals: Record<string, string> = {
  "not-invited": "Nobody with the address that the provider vouches for is invited. Ask an administrator.",
  "kept-out": "You may not come in any more. Ask an administrator.",
  "sign-in-expired": "The sign-in took too long, or was begun in another browser. Try again.",
  "provider-refused": "The provider did not say who you are, or cannot be reached. Try again.",
};

export default function SignIn() {
  const ways = useQuery({
    queryKey: keys.ways(),
    queryFn: () => take(api.GET("/api/v1/session/ways")),
    staleTime: Infinity,
  });
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [params] = useSearchParams();
  const refused = params.get("refused");
  useEffect(() => {
    document.title = "Sign in · Inkret";
  }, []);
  return (
    <main className="gate">
      <Card>
        <Typography.Title level={1} className="size-22">
          <img src="/inkret.svg" alt="" width={26} height={26} className="vertical-align-5px" /> Inkret
        </Typography.Title>
        <Typography.Paragraph type="secondary">
          Which fields each endpoint may expose, and what leaks all the same.
        </Typography.Paragraph>
        {refused && (
          <Alert
            role="alert"
            type="error"
            showIcon
            title={refusals[refused] ?? refusals["provider-refused"]}
            className="below-12"
          />
        )}
        {ways.data?.openid && (
          <>
            <Button block href={`/api/v1/session/openid?next=${encodeURIComponent(inside(params.get("next")))}`}>
              Sign in with {ways.data.openid}
            </Button>
            <Divider plain>or</Divider>
          </>
        )}
        <SignInForm
          done={(person) => {
            queries.clear();
            signedIn(queries, person);
            navigate(inside(params.get("next")), { replace: true });
          }}
        />
      </Card>
    </main>
  );
}
