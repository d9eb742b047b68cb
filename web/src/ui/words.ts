/** Setup hues in order: the Okabe–Ito palette. */
export const HUES = ['#009E73', '#CC79A7', '#E69F00', '#56B4E9', '#D55E00', '#0072B2', '#F0E442']
export const hueOf = (setup: number) => HUES[setup % HUES.length] ?? '#009E73'

export const clock = (seconds: number) => {
  const whole = Math.round(seconds)
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, '0')}`
}
export const round = (value: number, digits = 3) => String(Number(value.toFixed(digits)))
