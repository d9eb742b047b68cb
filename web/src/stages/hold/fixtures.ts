import type { Fixture, HoldItem } from '../../api/client'

export const KINDS: Record<Fixture['kind'], string> = {
  vise: 'vises',
  jaws: 'jaws',
  parallels: 'parallels',
  stop: 'work stops',
  v_block: 'V-blocks',
  angle_plate: 'angle plates',
  plate: 'base plates',
  clamp: 'clamps',
  riser: 'step blocks',
  bolt: 'bolts',
  pin: 'pins',
  chuck: 'chucks',
  collet_block: 'collet blocks',
  block: 'nest blocks',
  own: 'our own solids',
}

/** The sizes a machinist asks for first. */
export function sizes(one: Fixture): string {
  switch (one.kind) {
    case 'vise':
      return `jaws ${one.jaw_width} × ${one.jaw_height} · opens ${one.opening_max} · ${one.force_kn} kN`
    case 'jaws':
      return `${one.style} · ${one.width} × ${one.height} × ${one.thickness}`
    case 'parallels':
      return `${one.length} × ${one.thickness} · ${Math.min(...one.heights)} … ${Math.max(...one.heights)} high`
    case 'stop':
      return `Ø${one.tip_diameter} · reaches ${one.reach}`
    case 'v_block':
      return `${one.angle_deg}° · ${one.length} × ${one.width} × ${one.height} · relief ${one.relief}`
    case 'angle_plate':
      return `${one.width} × ${one.height} × ${one.depth}`
    case 'plate':
      return `${one.length} × ${one.width} × ${one.thickness} · ${one.thread} and Ø${one.dowel} every ${one.pitch}`
    case 'clamp':
      return `${one.style} · ${one.length} × ${one.width} · ${one.thread} · ${one.force_kn} kN`
    case 'riser':
      return `${one.length} × ${one.width} · ${Math.min(...one.heights)} … ${Math.max(...one.heights)} high`
    case 'bolt':
      return `${one.thread} × ${one.length}`
    case 'pin':
      return `Ø${one.diameter} × ${one.height}${one.relieved ? ' · relieved' : ''}`
    case 'chuck':
      return `${one.jaws} jaws · Ø${one.diameter} · bore ${one.bore} · ${one.force_kn} kN`
    case 'collet_block':
      return `${one.sides} sides · across ${one.across} · bore to ${one.bore_max}`
    case 'block':
      return `${one.length} × ${one.width} × ${one.height}`
    case 'own':
      return one.file
  }
}

/** A new item for a holding, standing on what suits it, or where it goes on the table. */
export function added(
  items: HoldItem[],
  fixture: Fixture,
  all: Fixture[],
  middle: readonly [number, number],
): HoldItem[] {
  const kindOf = (item: HoldItem) => all.find((one) => one.id === item.fixture)?.kind
  const last = (...kinds: Fixture['kind'][]) =>
    [...items].reverse().find((one) => kinds.includes(kindOf(one) ?? 'own'))?.id
  const on: Partial<Record<Fixture['kind'], string | undefined>> = {
    jaws: last('vise'),
    parallels: last('vise'),
    stop: last('vise'),
    v_block: last('vise', 'plate'),
    collet_block: last('vise'),
    vise: last('plate'),
    clamp: last('plate'),
    pin: last('plate'),
    riser: last('plate'),
    angle_plate: last('plate'),
    chuck: last('plate'),
    block: last('vise', 'plate'),
    bolt: last('block', 'plate'),
  }
  const base = on[fixture.kind] ?? 'table'
  let id = fixture.kind.replace('_', '-')
  for (let n = 2; items.some((one) => one.id === id); n += 1) id = `${fixture.kind.replace('_', '-')}-${n}`
  const free = base === 'table'
  return [
    {
      id,
      fixture: fixture.id,
      on: base,
      x: free ? middle[0] : 0,
      y: free ? middle[1] : 0,
      z: 0,
      turn_deg: 0,
      side: 'left',
      ...(fixture.kind === 'parallels' || fixture.kind === 'riser'
        ? { height: fixture.heights[0] ?? 10 }
        : {}),
    },
  ]
}
