/** How much following lists can cost. */
export const LIVE_LIMITS = Object.freeze({
  /** How many lists one stream has. */
  lists: 20,
  /** How many streams one caller has open. */
  streamsOfOne: 50,
  /** How many all visitors have: nobody knows how many they are, and they leave room for those who have signed in. */
  streamsOfVisitors: 5_000,
  /** How many streams are open in all. */
  streams: 10_000,
  /** How many rows of a table are looked at on their own in one round; of more, all lists that rest on it are asked again. */
  rowsATime: 500,
  /** How many records are looked up in one round, to find out whose lists they are in. */
  recordsATime: 200,
  /** How many lists are asked at a time. */
  asksATime: 6,
  /** How many bytes wait for a client before nothing more is asked for it. */
  waitingBytes: 256 * 1024,
})
