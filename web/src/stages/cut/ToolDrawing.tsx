import type { ToolPicture } from '../../api/client'
import { round } from '../../ui/words'

const WIDE = 300
const HIGH = 430
const ROOM = { left: 62, right: 62, below: 14, above: 10 }
const FILLS: Record<string, string> = { cutter: '#F0B429', shank: '#C9CED1', holder: '#8C959A' }

/** A tool in its holder, from its tip up, with its dimensions. */
export function ToolDrawing({ picture }: { picture: ToolPicture }) {
  const scale = Math.min(
    (HIGH - ROOM.above - ROOM.below) / picture.length,
    (WIDE - ROOM.left - ROOM.right) / picture.widest,
  )
  const middle = WIDE / 2
  const y = (height: number) => HIGH - ROOM.below - height * scale
  const shape = (outline: readonly (readonly number[])[]) => {
    const right = outline.map(([r = 0, h = 0]) => `${middle + r * scale},${y(h)}`)
    const left = [...outline].reverse().map(([r = 0, h = 0]) => `${middle - r * scale},${y(h)}`)
    return [...right, ...left].join(' ')
  }
  const lengths = picture.dimensions.filter((one) => one.along)
  const widths = picture.dimensions.filter((one) => one.across != null)
  return (
    <svg
      viewBox={`0 0 ${WIDE} ${HIGH}`}
      role="img"
      aria-label={`Tool, ${round(picture.length, 2)} mm from the spindle’s nose`}
      className="figures w-full border border-rule bg-rail"
    >
      {[...picture.parts].reverse().map((part) => (
        <polygon
          key={part.name}
          points={shape(part.outline)}
          fill={FILLS[part.name] ?? '#C9CED1'}
          stroke="#1E2A2F"
          strokeWidth={0.7}
        />
      ))}
      <line
        x1={middle}
        x2={middle}
        y1={y(picture.length) - 6}
        y2={y(0) + 8}
        stroke="#1E2A2F"
        strokeWidth={0.5}
        strokeDasharray="8 3 2 3"
      />
      {lengths.map((one, i) => {
        const [from = 0, to = 0] = one.along ?? []
        const x = middle + (picture.widest / 2) * scale + 10 + i * 15
        return (
          <g key={one.name} stroke="#1E2A2F" strokeWidth={0.5} fill="#1E2A2F">
            <line x1={middle} x2={x + 3} y1={y(from)} y2={y(from)} opacity={0.35} />
            <line x1={middle} x2={x + 3} y1={y(to)} y2={y(to)} opacity={0.35} />
            <line x1={x} x2={x} y1={y(from)} y2={y(to)} />
            <text
              x={x}
              y={y((from + to) / 2)}
              transform={`rotate(-90 ${x} ${y((from + to) / 2)})`}
              dy={-2}
              fontSize={10}
              stroke="none"
              textAnchor="middle"
            >
              {one.name} {round(one.value, 2)}
            </text>
          </g>
        )
      })}
      {widths.map((one) => (
        <g key={one.name} stroke="#1E2A2F" strokeWidth={0.5} fill="#1E2A2F">
          <line
            x1={58}
            x2={middle - (one.value / 2) * scale}
            y1={y(one.across ?? 0)}
            y2={y(one.across ?? 0)}
            opacity={0.5}
          />
          <text x={4} y={y(one.across ?? 0)} dy={3} fontSize={10} stroke="none">
            {one.name} {round(one.value, 2)}
          </text>
        </g>
      ))}
    </svg>
  )
}
