/**
 * Goes on with an answer as soon as it is there. A database inside the process has answered already, and waiting
 * for it all the same would take longer than the query.
 */
export function withAnswer<A, B>(answer: A | Promise<A>, work: (answer: A) => B | Promise<B>): B | Promise<B> {
  return isThenable(answer) ? Promise.resolve(answer).then(work) : work(answer)
}

/** Whether something has to be waited for, whoever made it. */
export const isThenable = <A>(answer: A | Promise<A>): answer is Promise<A> =>
  typeof (answer as { then?: unknown } | null | undefined)?.then === 'function'
