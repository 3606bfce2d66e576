// Maps that are looked at together: one view and one pointer for all.

export class Together {
  /** Where they look, and which of them was moved. */
  view = $state.raw<{ latitude: number; longitude: number; zoom: number; by: symbol } | null>(null);
  /** The place under the pointer, and which of them it is on. */
  pointer = $state.raw<{ latitude: number; longitude: number; by: symbol } | null>(null);
}
