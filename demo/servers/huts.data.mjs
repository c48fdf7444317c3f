/** The huts of Highmoor. All invented. */
export const huts = [
  { slug: 'ravenstone', name: 'Ravenstone Hut', beds: 12, height: 1840 },
  { slug: 'larkfell', name: 'Larkfell Hut', beds: 4, height: 1515 },
  { slug: 'mistgap', name: 'Mistgap Bothy', beds: 0, height: 2105 },
];
