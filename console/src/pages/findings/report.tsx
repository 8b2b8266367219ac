import { Button, Dropdown } from "antd";
import { actingForQuery } from "../../api/client";
import { useService } from "../../shared/service";

const formats = {
  html: "A page for an auditor, to print",
  csv: "CSV, for spreadsheets",
  sarif: "SARIF, for code hosts",
  junit: "JUnit XML, for build servers",
  markdown: "Markdown",
  json: "JSON, and a baseline for inkret check",
};

/** Downloads the findings that match the filters as a file. */
export function Report({ filter, service }: { filter: string; service: string }) {
  const { services, name } = useService();
  const of = service || name;
  if (!of) return null;
  return (
    <Dropdown
      trigger={["click"]}
      menu={{
        items: Object.entries(formats).map(([format, label]) => ({
          key: format,
          label: (
            <a
              href={`/api/v1/services/${encodeURIComponent(of)}/report?${new URLSearchParams({ format, filter, ...actingForQuery() })}`}
              download
            >
              {label}
            </a>
          ),
        })),
      }}
    >
      <Button aria-haspopup="menu">{(services.data?.length ?? 0) > 1 ? `Report of ${of}…` : "Report…"}</Button>
    </Dropdown>
  );
}
