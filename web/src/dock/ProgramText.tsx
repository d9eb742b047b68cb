import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { unifiedMergeView } from '@codemirror/merge'
import { search, searchKeymap } from '@codemirror/search'
import { EditorState, type Extension, type Range, StateEffect, StateField } from '@codemirror/state'
import { Decoration, type DecorationSet, EditorView, gutter, GutterMarker, keymap } from '@codemirror/view'
import { useEffect, useRef } from 'react'
import { highlighted, paper } from './nc'

/** What stands beside the lines, all from 0. here: the line that is run; stops: where it stops; troubled: what was found of a line; own: first and last of the operation that is run. */
export type Beside = {
  here: number | null
  stops: readonly number[]
  troubled: ReadonlyMap<number, string>
  own: readonly [number, number] | null
}

export const NOTHING: Beside = { here: null, stops: [], troubled: new Map(), own: null }
const put = StateEffect.define<Beside>()
const beside = StateField.define<Beside>({
  create: () => NOTHING,
  update: (value, change) => change.effects.reduce((now, one) => (one.is(put) ? one.value : now), value),
})

/** The line that is run, and what is of other operations. */
function dressed(state: EditorState): DecorationSet {
  const { here, own } = state.field(beside)
  const out: Range<Decoration>[] = []
  if (here !== null && here < state.doc.lines)
    out.push(
      Decoration.line({ class: 'cm-here', attributes: { 'aria-current': 'true' } }).range(
        state.doc.line(here + 1).from,
      ),
    )
  if (own)
    for (let i = 0; i < state.doc.lines; i += 1)
      if ((i < own[0] || i > own[1]) && i !== here)
        out.push(Decoration.line({ class: 'cm-aside' }).range(state.doc.line(i + 1).from))
  return Decoration.set(out, true)
}

class Mark extends GutterMarker {
  constructor(
    readonly sign: string,
    readonly called: string,
  ) {
    super()
  }
  override eq(other: Mark) {
    return other.sign === this.sign && other.called === this.called
  }
  override toDOM() {
    const made = document.createElement('span')
    made.textContent = this.sign
    made.title = this.called
    return made
  }
}
const NAMED = 'Program text'
const READING: Extension[] = [
  EditorState.readOnly.of(true),
  EditorView.editable.of(false),
  EditorView.contentAttributes.of({ 'aria-label': NAMED, tabindex: '0' }),
  search({ top: true }),
  keymap.of(searchKeymap),
]
const changing = (typed: (text: string) => void): Extension[] => [
  history(),
  keymap.of([...defaultKeymap, ...historyKeymap, ...searchKeymap]),
  EditorView.contentAttributes.of({ 'aria-label': NAMED }),
  EditorView.updateListener.of((update) => {
    if (update.docChanged) typed(update.state.doc.toString())
  }),
]
const HERE = new Mark('▶', 'run now')
const STOP = new Mark('●', 'stops here')

/** The program as it is read, with a margin for stops. A click in the margin sets one, a click on a line goes to it. typed: told of what is typed, where the text is being changed; against: the text it differs from. */
export function ProgramText(props: {
  text: string
  beside: Beside
  toggle: (line: number) => void
  go: (line: number) => void
  typed?: ((text: string) => void) | undefined
  against?: string | undefined
}) {
  const editing = props.typed !== undefined
  const at = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView>(undefined)
  const does = useRef(props)
  useEffect(() => {
    does.current = props
  })
  useEffect(() => {
    if (!at.current) return
    const lineAt = (editor: EditorView, event: MouseEvent) => {
      const place = editor.posAtCoords({ x: event.clientX, y: event.clientY }, false)
      return editor.state.doc.lineAt(place).number - 1
    }
    const made = new EditorView({
      parent: at.current,
      state: EditorState.create({
        doc: props.text,
        extensions: [
          ...(editing ? changing((text) => does.current.typed?.(text)) : READING),
          ...(props.against === undefined
            ? []
            : [unifiedMergeView({ original: props.against, mergeControls: false, gutter: false })]),
          EditorView.lineWrapping,
          beside,
          EditorView.decorations.compute([beside, 'doc'], dressed),
          gutter({
            class: 'cm-stops',
            renderEmptyElements: true,
            lineMarker(editor, line) {
              const now = editor.state.field(beside)
              const number = editor.state.doc.lineAt(line.from).number - 1
              const found = now.troubled.get(number)
              if (found) return new Mark('▲', found)
              if (now.stops.includes(number)) return STOP
              return number === now.here ? HERE : null
            },
            lineMarkerChange: (update) => update.startState.field(beside) !== update.state.field(beside),
            initialSpacer: () => STOP,
            domEventHandlers: {
              mousedown(editor, line) {
                does.current.toggle(editor.state.doc.lineAt(line.from).number - 1)
                return true
              },
            },
          }),
          EditorView.domEventHandlers({
            click(event, editor) {
              if (!does.current.typed) does.current.go(lineAt(editor, event))
            },
          }),
          highlighted,
          paper,
        ],
      }),
    })
    view.current = made
    return () => made.destroy()
    // What is typed is the editor's own until it is kept.
  }, [props.text, props.against, editing])
  useEffect(() => {
    const editor = view.current
    if (!editor) return
    const { here } = props.beside
    const effects: StateEffect<unknown>[] = [put.of(props.beside)]
    if (here !== null && here < editor.state.doc.lines)
      effects.push(
        EditorView.scrollIntoView(editor.state.doc.line(here + 1).from, { y: 'nearest', yMargin: 40 }),
      )
    editor.dispatch({ effects })
  }, [props.beside, props.text, props.against, editing])
  return <div ref={at} className="min-h-0 min-w-0 grow overflow-hidden" />
}
