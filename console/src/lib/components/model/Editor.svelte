<!-- A code editor for decoders; it loads when it is needed. -->
<script lang="ts">
  import type { EditorView } from "@codemirror/view";
  import type { Compartment } from "@codemirror/state";

  type Kind = "script" | "table" | "low_power" | "text";
  type Mark = { message: string; line?: number | null; column?: number | null };
  let { value = $bindable(), kind, marks = [], label }: { value: string; kind: Kind; marks?: Mark[]; label: string } = $props();

  let place: HTMLDivElement;
  let view = $state.raw<EditorView | null>(null);
  let language: Compartment | null = null;
  let put: ((view: EditorView, marks: Mark[]) => void) | null = null;
  let speak: ((kind: Kind) => Promise<void>) | null = null;

  $effect(() => {
    let gone = false;
    void Promise.all([
      import("codemirror"),
      import("@codemirror/view"),
      import("@codemirror/state"),
      import("@codemirror/lint"),
      import("@codemirror/language"),
      import("@lezer/highlight"),
    ]).then(
      async ([
        { basicSetup },
        { EditorView, keymap },
        { Compartment, EditorState },
        { setDiagnostics, lintGutter },
        { HighlightStyle, StreamLanguage, indentUnit, syntaxHighlighting },
        { tags },
      ]) => {
        if (gone) return;
        language = new Compartment();
        const look = EditorView.theme({
          "&": { backgroundColor: "var(--color-base-100)", color: "var(--color-base-content)", height: "100%", fontSize: "0.85rem" },
          ".cm-content": { fontFamily: "var(--font-mono)", caretColor: "var(--color-base-content)" },
          ".cm-gutters": {
            backgroundColor: "var(--color-base-200)",
            color: "color-mix(in oklch, var(--color-base-content) 75%, transparent)",
            border: "none",
            fontFamily: "var(--font-mono)",
          },
          ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "color-mix(in oklch, var(--color-base-content) 6%, transparent)" },
          ".cm-cursor": { borderLeftColor: "var(--color-base-content)" },
          "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": {
            backgroundColor: "color-mix(in oklch, var(--color-secondary) 30%, transparent) !important",
          },
          ".cm-tooltip": { backgroundColor: "var(--color-base-200)", color: "var(--color-base-content)" },
          ".cm-panels": { backgroundColor: "var(--color-base-200)", color: "var(--color-base-content)" },
        });
        // Of the theme's own colours, so that each theme has its contrast.
        const colours = HighlightStyle.define([
          { tag: [tags.keyword, tags.operatorKeyword, tags.modifier, tags.heading], color: "var(--color-primary)", fontWeight: "600" },
          { tag: [tags.string, tags.special(tags.string), tags.regexp], color: "var(--color-success)" },
          { tag: [tags.number, tags.bool, tags.null, tags.atom], color: "var(--color-secondary)" },
          { tag: [tags.comment, tags.meta], color: "color-mix(in oklch, var(--color-base-content) 78%, transparent)", fontStyle: "italic" },
          { tag: [tags.definition(tags.variableName), tags.function(tags.variableName), tags.definition(tags.propertyName)], color: "var(--color-secondary)" },
          { tag: [tags.propertyName, tags.variableName, tags.typeName, tags.className, tags.labelName], color: "var(--color-base-content)" },
          { tag: tags.invalid, color: "var(--color-error)" },
        ]);
        const made = new EditorView({
          parent: place,
          state: EditorState.create({
            doc: value,
            extensions: [
              basicSetup,
              lintGutter(),
              look,
              syntaxHighlighting(colours),
              indentUnit.of("  "),
              language.of([]),
              keymap.of([]),
              // The styles it makes are known by this to the content security policy.
              EditorView.cspNonce.of(document.querySelector<HTMLMetaElement>("meta[name=style-nonce]")?.content ?? ""),
              EditorView.contentAttributes.of({ "aria-label": label }),
              EditorView.updateListener.of((update) => {
                if (update.docChanged) value = update.state.doc.toString();
              }),
            ],
          }),
        });
        speak = async (kind) => {
          const support =
            kind === "script"
              ? (await import("@codemirror/lang-javascript")).javascript()
              : StreamLanguage.define((await import("@codemirror/legacy-modes/mode/toml")).toml);
          if (language) made.dispatch({ effects: language.reconfigure(support) });
        };
        put = (view, marks) => {
          const doc = view.state.doc;
          const found = marks.map(({ message, line, column }) => {
            const at = doc.line(Math.min(Math.max(line ?? 1, 1), doc.lines));
            const from = Math.min(at.from + Math.max((column ?? 1) - 1, 0), at.to);
            return { from, to: Math.max(at.to, from), severity: "error" as const, message };
          });
          view.dispatch(setDiagnostics(view.state, found));
        };
        view = made;
      },
    );
    return () => {
      gone = true;
      view?.destroy();
      view = null;
    };
  });

  // What comes from outside: another decoder, or an edition brought back.
  $effect(() => {
    if (view && value !== view.state.doc.toString()) {
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: value } });
    }
  });
  $effect(() => {
    if (view) void speak?.(kind);
  });
  $effect(() => {
    if (view) put?.(view, marks);
  });
</script>

<div bind:this={place} class="h-full min-h-72 overflow-auto rounded-field border border-base-300" data-editor={view ? "ready" : "loading"}></div>
