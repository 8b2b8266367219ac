import { Typography } from "antd";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { ExposureMap } from "../../api/client";
import { ClassMark } from "../../shared/classes";

// Only the cells in sight are in the page: thousands of fields by hundreds of
// endpoints scroll as smoothly as ten by ten.

const rowHeight = 24;
const columnWidth = 30;
const side = 250; // the fields' names
const top = 190; // the columns' names
const margin = 4; // cells drawn beyond what is in sight

const states = [
  { sign: "", word: "nothing to do with it", kind: "none" },
  { sign: "✓", word: "granted", kind: "granted" },
  { sign: "◌", word: "granted, never seen", kind: "promised" },
  { sign: "‼", word: "leaking", kind: "leaking" },
  { sign: "@", word: "granted, of own records", kind: "granted" },
  { sign: "@", word: "granted, of own records, never seen", kind: "promised" },
  { sign: "·", word: "withheld", kind: "withheld" },
] as const;
const withheld = states.length - 1;

export function Grid({ service, map }: { service: string; map: ExposureMap }) {
  const box = useRef<HTMLDivElement>(null);
  const navigate = useNavigate();
  const [view, setView] = useState({ left: 0, top: 0, width: 1000, height: 600 });
  const [at, setAt] = useState({ row: 0, column: 0 });

  const cells = useMemo(() => {
    const all = new Map<number, number>();
    const touched = new Set<string>(); // entity and column
    for (const [row, column, state] of map.cells as [number, number, number][]) {
      all.set(row * map.columns.length + column, state);
      touched.add(`${map.rows[row]!.entity}\n${column}`);
    }
    return { all, touched };
  }, [map]);
  const stateOf = (row: number, column: number) =>
    cells.all.get(row * map.columns.length + column) ??
    (cells.touched.has(`${map.rows[row]!.entity}\n${column}`) ? withheld : 0);

  const measure = useCallback(() => {
    const b = box.current;
    if (b) setView({ left: b.scrollLeft, top: b.scrollTop, width: b.clientWidth, height: b.clientHeight });
  }, []);
  useEffect(() => {
    measure();
    const watch = new ResizeObserver(measure);
    if (box.current) watch.observe(box.current);
    return () => watch.disconnect();
  }, [measure]);
  useEffect(() => setAt({ row: 0, column: 0 }), [map]);

  const firstRow = Math.max(0, Math.floor(view.top / rowHeight) - margin);
  const lastRow = Math.min(map.rows.length, Math.ceil((view.top + view.height - top) / rowHeight) + margin);
  const firstColumn = Math.max(0, Math.floor(view.left / columnWidth) - margin);
  const lastColumn = Math.min(map.columns.length, Math.ceil((view.left + view.width - side) / columnWidth) + margin);

  const open = (row: number, column: number) => {
    const state = stateOf(row, column);
    const { entity, field } = map.rows[row]!;
    if (state === 3)
      navigate(
        `/findings?endpoint=${map.columns[column]!.endpoint_id}&entity=${encodeURIComponent(entity)}&audience=${encodeURIComponent(map.columns[column]!.audience)}&state=open&q=${encodeURIComponent(field)}`,
      );
    else if (state > 0) navigate(`/endpoints/${map.columns[column]!.endpoint_id}`);
  };
  const go = (row: number, column: number) => {
    const r = Math.min(Math.max(row, 0), map.rows.length - 1);
    const c = Math.min(Math.max(column, 0), map.columns.length - 1);
    setAt({ row: r, column: c });
    const b = box.current;
    if (!b) return;
    if (r * rowHeight < b.scrollTop) b.scrollTop = r * rowHeight;
    if ((r + 1) * rowHeight > b.scrollTop + b.clientHeight - top)
      b.scrollTop = (r + 1) * rowHeight - b.clientHeight + top;
    if (c * columnWidth < b.scrollLeft) b.scrollLeft = c * columnWidth;
    if ((c + 1) * columnWidth > b.scrollLeft + b.clientWidth - side)
      b.scrollLeft = (c + 1) * columnWidth - b.clientWidth + side;
  };
  const onKey = (e: React.KeyboardEvent) => {
    const page = Math.max(1, Math.floor((view.height - top) / rowHeight));
    const to: Record<string, [number, number]> = {
      ArrowDown: [at.row + 1, at.column],
      ArrowUp: [at.row - 1, at.column],
      ArrowLeft: [at.row, at.column - 1],
      ArrowRight: [at.row, at.column + 1],
      PageDown: [at.row + page, at.column],
      PageUp: [at.row - page, at.column],
      Home: [at.row, 0],
      End: [at.row, map.columns.length - 1],
    };
    if (to[e.key]) {
      e.preventDefault();
      go(...to[e.key]!);
    } else if (e.key === "Enter") open(at.row, at.column);
  };
  const here = { row: map.rows[at.row], column: map.columns[at.column] };
  const word = here.row && here.column ? states[stateOf(at.row, at.column)]!.word : "";
  const rows = Array.from({ length: Math.max(0, lastRow - firstRow) }, (_, i) => firstRow + i);
  const columns = Array.from({ length: Math.max(0, lastColumn - firstColumn) }, (_, i) => firstColumn + i);
  return (
    <>
      <p className="map-here" aria-live="polite">
        {here.row && here.column && (
          <>
            <Link
              to={`/entities/${encodeURIComponent(service)}/${encodeURIComponent(here.row.entity)}?field=${encodeURIComponent(here.row.field)}`}
              className="code"
            >
              {here.row.entity}.{here.row.field}
            </Link>{" "}
            <ClassMark value={here.row.class} /> at{" "}
            <Link to={`/endpoints/${here.column.endpoint_id}`} className="code">
              {here.column.endpoint}
            </Link>{" "}
            for <strong>{here.column.audience}</strong>: <strong>{word}</strong>
          </>
        )}
      </p>
      <div
        ref={box}
        className="map-box"
        role="grid"
        tabIndex={0}
        aria-label="Exposure map; arrow keys move, Enter opens"
        aria-rowcount={map.rows.length}
        aria-colcount={map.columns.length}
        aria-activedescendant={`cell-${at.row}-${at.column}`}
        onScroll={measure}
        onKeyDown={onKey}
      >
        <div
          className="map-whole"
          style={{ width: side + map.columns.length * columnWidth + 120, height: top + map.rows.length * rowHeight }}
        >
          <div className="map-top" style={{ width: side + map.columns.length * columnWidth + 120, height: top }}>
            {columns.map((c) => (
              <div
                key={c}
                role="columnheader"
                aria-colindex={c + 1}
                className={`map-column${c === at.column ? " here" : ""}`}
                style={{ left: side + c * columnWidth, height: top }}
              >
                <span title={`${map.columns[c]!.endpoint} for ${map.columns[c]!.audience}`}>
                  <em>{map.columns[c]!.audience}</em> {map.columns[c]!.endpoint}
                </span>
              </div>
            ))}
            <div className="map-corner" style={{ width: side, height: top }}>
              <Typography.Text type="secondary">field / audience, endpoint</Typography.Text>
              {[1, 2, 3, 4].map((s) => (
                <div key={s}>
                  <span className={`map-cell key state-${states[s]!.kind}`} aria-hidden>
                    {states[s]!.sign}
                  </span>{" "}
                  {states[s]!.word}
                </div>
              ))}
            </div>
          </div>
          {rows.map((r) => (
            <div key={r} role="row" aria-rowindex={r + 1} className="map-row" style={{ top: top + r * rowHeight }}>
              <div role="rowheader" className={`map-name${r === at.row ? " here" : ""}`} style={{ width: side }}>
                <Link
                  tabIndex={-1}
                  to={`/entities/${encodeURIComponent(service)}/${encodeURIComponent(map.rows[r]!.entity)}?field=${encodeURIComponent(map.rows[r]!.field)}`}
                  className="code"
                  title={`${map.rows[r]!.entity}.${map.rows[r]!.field}: where does it go?`}
                >
                  {map.rows[r]!.entity}.{map.rows[r]!.field}
                </Link>
                <span className={`class-mark class-${map.rows[r]!.class}`}>{map.rows[r]!.class}</span>
              </div>
              {columns.map((c) => {
                const state = states[stateOf(r, c)]!;
                return (
                  <div
                    key={c}
                    id={`cell-${r}-${c}`}
                    role="gridcell"
                    aria-colindex={c + 1}
                    aria-label={`${map.rows[r]!.entity}.${map.rows[r]!.field} at ${map.columns[c]!.endpoint} for ${map.columns[c]!.audience}: ${state.word}`}
                    aria-selected={r === at.row && c === at.column}
                    className={`map-cell state-${state.kind}${r === at.row && c === at.column ? " here" : ""}`}
                    style={{ left: side + c * columnWidth }}
                    onMouseEnter={() => setAt({ row: r, column: c })}
                    onClick={() => open(r, c)}
                  >
                    {state.sign}
                  </div>
                );
              })}
            </div>
          ))}
        </div>
      </div>
    </>
  );
}
