/** The same without one of its entries. */
export function omit<T extends object, K extends keyof T>(from: T, name: K): Omit<T, K> {
  return Object.fromEntries(Object.entries(from).filter(([each]) => each !== name)) as Omit<T, K>
}
