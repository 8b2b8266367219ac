import { autocompletion, type CompletionContext, type CompletionResult } from "@codemirror/autocomplete";
import { indentWithTab } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { lintGutter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { Compartment, EditorState } from "@codemirror/state";
import { EditorView, keymap } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { Flex, Segmented } from "antd";
import { basicSetup } from "codemirror";
import { useEffect, useRef } from "react";
import type { components } from "../../api/schema.gen";
import type { ContractFile, EditableContract } from "../../api/client";

type Fault = components["schemas"]["ContractFault"];

const nonce = document.querySelector<HTMLMetaElement>('meta[name="inkret-nonce"]')?.content ?? "";

const look = EditorView.theme({
  "&": { fontSize: "12.5px", height: "100%", backgroundColor: "var(--sheet)", color: "inherit" },
  ".cm-scroller": { fontFamily: 'ui-monospace, "DejaVu Sans Mono", Menlo, Consolas, monospace' },
  ".cm-gutters": {
    backgroundColor: "var(--paper)",
    color: "inherit",
    opacity: "0.8",
    borderRight: "1px solid var(--line)",
  },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--hover)" },
  ".cm-cursor": { borderLeftColor: "currentColor" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": { backgroundColor: "var(--chosen) !important" },
  ".cm-tooltip": { backgroundColor: "var(--sheet)", color: "inherit", border: "1px solid var(--line)" },
});
const colours = HighlightStyle.define([
  { tag: tags.comment, color: "var(--mark-missing)", fontStyle: "italic" },
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--ant-color-primary, #27407f)" },
  { tag: [tags.string, tags.content], color: "inherit" },
  { tag: [tags.bool, tags.null, tags.number, tags.keyword], color: "var(--mark-foreign)" },
]);

const keys = [
  "endpoint",
  "team",
  "selection",
  "responses",
  "accepts",
  "audiences",
  "statuses",
  "when",
  "name",
  "entity",
  "at",
  "many",
  "nullable",
  "shape",
  "grants",
  "beside",
  "field",
  "derived",
  "external",
  "constant",
  "relation",
  "reference",
  "one_of",
  "type",
  "format",
  "max",
  "values",
  "optional",
  "open",
  "keys",
  "class",
  "reason",
  "needed_by",
  "stored_as",
  "fields",
  "relations",
  "recognise",
  "exceptions",
  "detectors",
  "countries",
];

/** Words that fit where the cursor is: entities, shapes, audiences, classes behind their keys, else keys and the fields of entities. */
function words(contract: () => EditableContract | undefined) {
  return (c: CompletionContext): CompletionResult | null => {
    const word = c.matchBefore(/[\w.-]+/);
    if (!word && !c.explicit) return null;
    const line = c.state.doc.lineAt(c.pos).text.slice(0, c.pos - c.state.doc.lineAt(c.pos).from);
    const known = contract();
    const of = (all: string[], type: string, detail?: (s: string) => string | undefined) =>
      all.map((label) => ({ label, type, detail: detail?.(label) }));
    let options;
    if (/\bclass:\s*[\w-]*$/.test(line)) options = of(["public", "internal", "personal", "secret"], "enum");
    else if (/\btype:\s*[\w-]*$/.test(line))
      options = of(["string", "integer", "number", "boolean", "object", "array"], "enum");
    else if (/\bentity:\s*[\w-]*$/.test(line)) options = of(known?.entities.map((e) => e.name) ?? [], "class");
    else if (/\bshape:\s*[\w-]*$/.test(line))
      options = of(
        known?.shapes.map((s) => s.name) ?? [],
        "interface",
        (n) => known?.shapes.find((s) => s.name === n)?.entity,
      );
    else if (/\baudiences:\s*\[[^\]]*$/.test(line)) options = of(known?.audiences ?? [], "variable");
    else {
      const fields = new Map<string, string>();
      for (const e of known?.entities ?? []) {
        for (const f of e.fields)
          fields.set(f.name, `${fields.has(f.name) ? `${fields.get(f.name)}, ` : ""}${e.name} (${f.class})`);
        for (const r of e.relations) fields.set(r.name, `${e.name} → ${r.entity}`);
      }
      options = [...of(keys, "keyword"), ...of([...fields.keys()], "property", (n) => fields.get(n))];
    }
    return { from: word ? word.from : c.pos, options, validFor: /^[\w.-]*$/ };
  };
}

function diagnosticsOf(v: EditorView, problems: Fault[]): Diagnostic[] {
  return problems.map((p) => {
    const l = v.state.doc.line(Math.min(Math.max(p.line, 1), v.state.doc.lines));
    const from = Math.min(l.from + Math.max(p.column - 1, 0), l.to);
    return {
      from,
      to: Math.max(from, l.to),
      severity: "error",
      message: `${p.found}; expected ${p.expected}${p.near ? `; did you mean “${p.near}”?` : ""}`,
    };
  });
}

/** The contract files as text, with problems at their places and completion. */
export default function TextEditor({
  files,
  onChange,
  problems,
  contract,
  file,
  line,
  begin,
  onFile,
  readOnly,
}: {
  files: ContractFile[];
  onChange: (files: ContractFile[]) => void;
  problems: Fault[];
  contract?: EditableContract;
  file?: string;
  line?: number;
  begin?: number;
  onFile: (name: string) => void;
  readOnly: boolean;
}) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const name = files.some((f) => f.name === file) ? file! : (files[0]?.name ?? "");
  const text = files.find((f) => f.name === name)?.text ?? "";
  const latest = useRef({ files, onChange, problems, contract, name, begin });
  latest.current = { files, onChange, problems, contract, name, begin };
  const locked = useRef(new Compartment());

  useEffect(() => {
    if (!box.current) return;
    const editor = new EditorView({
      parent: box.current,
      state: EditorState.create({
        doc: latest.current.files.find((f) => f.name === latest.current.name)?.text ?? "",
        extensions: [
          EditorView.cspNonce.of(nonce),
          basicSetup,
          keymap.of([indentWithTab]),
          yaml(),
          look,
          syntaxHighlighting(colours),
          lintGutter(),
          autocompletion({ override: [words(() => latest.current.contract)] }),
          locked.current.of(EditorState.readOnly.of(false)),
          EditorView.contentAttributes.of({ "aria-label": "Contract text" }),
          EditorView.updateListener.of((u) => {
            if (!u.docChanged) return;
            const now = u.state.doc.toString();
            const { files: all, onChange: tell, name: of } = latest.current;
            if (all.find((f) => f.name === of)?.text !== now)
              tell(all.map((f) => (f.name === of ? { ...f, text: now } : f)));
          }),
        ],
      }),
    });
    view.current = editor;
    const first = latest.current.begin; // where to begin; afterwards the cursor stays where somebody types
    if (first && first <= editor.state.doc.lines) {
      const at = editor.state.doc.line(first).from;
      editor.dispatch({
        selection: { anchor: at },
        effects: EditorView.scrollIntoView(at, { y: "start", yMargin: 60 }),
      });
    }
    return () => editor.destroy();
  }, [name]);

  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== text)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: text } });
  }, [text]);
  useEffect(() => {
    view.current?.dispatch({ effects: locked.current.reconfigure(EditorState.readOnly.of(readOnly)) });
  }, [readOnly]);
  useEffect(() => {
    const v = view.current;
    if (v)
      v.dispatch(
        setDiagnostics(
          v.state,
          diagnosticsOf(
            v,
            problems.filter((p) => p.file === name),
          ),
        ),
      );
  }, [problems, name]);
  useEffect(() => {
    const v = view.current;
    if (!v || !line || line > v.state.doc.lines) return;
    const at = v.state.doc.line(line).from;
    v.dispatch({ selection: { anchor: at }, effects: EditorView.scrollIntoView(at, { y: "center" }) });
  }, [line, name]);

  return (
    <>
      {files.length > 1 && (
        <Flex className="below-6">
          <Segmented
            size="small"
            value={name}
            onChange={onFile}
            options={files.map((f) => ({
              value: f.name,
              label: `${f.name}${problems.some((p) => p.file === f.name) ? " ✕" : ""}`,
            }))}
          />
        </Flex>
      )}
      <div ref={box} className="text-editor" />
    </>
  );
}
