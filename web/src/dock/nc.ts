import { HighlightStyle, StreamLanguage, syntaxHighlighting } from '@codemirror/language'
import { EditorView } from '@codemirror/view'
import { tags } from '@lezer/highlight'

/** Words of ISO 6983, comments, variables and conditions, as they are told apart by colour and weight. */
const language = StreamLanguage.define({
  startState: () => null,
  token(stream) {
    if (stream.eatSpace()) return null
    if (stream.match(/\([^)]*\)?|;.*/)) return 'comment'
    if (stream.match(/%/)) return 'comment'
    if (stream.sol() && stream.match(/\/\d?/)) return 'meta'
    if (stream.match(/N\s*\d+/i)) return 'labelName'
    if (stream.match(/(IF|THEN|GOTO|WHILE|DO|END|EQ|NE|GT|LT|GE|LE|AND|OR|XOR|MOD)(?![a-z])/i))
      return 'controlKeyword'
    if (stream.match(/[GM]\s*\d+(\.\d+)?/i)) return 'keyword'
    if (stream.match(/#\d*/)) return 'variableName'
    if (stream.match(/[A-Z]\s*[-+]?[\d.]+/i)) return 'number'
    stream.next()
    return null
  },
})

export const highlighted = [
  language,
  syntaxHighlighting(
    HighlightStyle.define([
      { tag: tags.comment, color: 'var(--color-soft)' },
      { tag: tags.labelName, color: 'var(--color-soft)' },
      { tag: tags.keyword, color: 'var(--color-ink)', fontWeight: '500' },
      { tag: tags.controlKeyword, color: 'var(--color-action)', fontWeight: '500' },
      { tag: tags.variableName, color: 'var(--color-action)' },
      { tag: tags.meta, color: 'var(--color-trouble)' },
    ]),
  ),
]

export const paper = EditorView.theme({
  '&': { height: '100%', backgroundColor: 'transparent', fontSize: '12.5px' },
  '&.cm-focused': { outline: 'none' },
  '.cm-scroller': { fontFamily: 'var(--font-figures)', lineHeight: '1.4' },
  '.cm-content': { padding: '0 0 6px', caretColor: 'var(--color-ink)' },
  '.cm-gutters': { backgroundColor: 'transparent', border: 'none', color: 'var(--color-trouble)' },
  '.cm-stops': { width: '20px', cursor: 'pointer' },
  '.cm-stops .cm-gutterElement': { textAlign: 'center', fontSize: '11px' },
  '.cm-here': { backgroundColor: 'color-mix(in srgb, var(--color-action) 13%, transparent)' },
  '.cm-aside': { opacity: '0.62' },
  '& .cm-deletedChunk': { backgroundColor: 'color-mix(in srgb, var(--color-trouble) 7%, transparent)' },
  '& .cm-deletedChunk .cm-deletedText': {
    background: 'color-mix(in srgb, var(--color-trouble) 22%, transparent)',
  },
  '& .cm-changedText': { background: 'color-mix(in srgb, var(--color-action) 22%, transparent)' },
  '.cm-changedLine': {
    backgroundColor: 'color-mix(in srgb, var(--color-action) 9%, transparent) !important',
  },
})
